import { useQuery, useQueryClient } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useRef, useState } from "react";
import { type LaidSound, answered, api } from "~/api/client";
import { useAssets } from "~/api/queries";
import { sendFile } from "~/api/upload";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, kindOf } from "~/workspace/kinds";
import { freshName, freshShotId } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";

/** How the clip's sound is laid under the shot, what else is, and how loud all of it is. */
export function SoundGroup({ own }: { own: boolean }) {
  const { record, edits } = useOpenShot();
  const { sound, sounds } = record.document;
  const kind = kindOf("footage", "sound");
  const form = (groups: ReturnType<typeof groupsOf>) =>
    kind && (
      <SchemaForm
        schema={kind.schema}
        groups={groups}
        bare
        values={sound as unknown as Record<string, unknown>}
        onChange={(field, value, label) =>
          void edits.edit(`${label} of the sound`, [{ op: "replace", path: `/sound/${field}`, value }])
        }
      />
    );
  return (
    <>
      {own && <Group title="Sound">{form(["Sound"])}</Group>}
      <Group title="Laid under it">
        {sounds.map((laid) => (
          <Laid key={laid.id} laid={laid} />
        ))}
        <LayAnother />
      </Group>
      {(own || sounds.length > 0) && (
        <Group title="All of it">
          {form(["All of it"])}
          <HowLoud />
        </Group>
      )}
    </>
  );
}

/** One sound that is laid under the shot, its settings when it is opened. */
function Laid({ laid }: { laid: LaidSound }) {
  const { edits } = useOpenShot();
  const [open, setOpen] = useState(false);
  const kind = kindOf("footage", "laid");
  const at = (sounds: LaidSound[]) => sounds.findIndex((s) => s.id === laid.id);
  return (
    <div className="mb-1 rounded-md bg-paper/60 px-2 py-1">
      <span className="flex items-center gap-1">
        <button
          className="min-w-0 flex-1 truncate text-left text-xs font-semibold"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
        >
          {laid.name}
        </button>
        <span className="num text-xs text-ink-2">from {laid.starts}</span>
        <button
          aria-label={`Take ${laid.name} away`}
          className="rounded p-0.5 text-ink-2 hover:text-brick"
          onClick={() =>
            void edits.edit(`Take ${laid.name} away`, (shot) => {
              const k = at(shot.sounds);
              return k < 0
                ? []
                : [
                    { op: "test", path: `/sounds/${k}/id`, value: laid.id },
                    { op: "remove", path: `/sounds/${k}` },
                  ];
            })
          }
        >
          <X className="size-3.5" />
        </button>
      </span>
      {open && kind && (
        <SchemaForm
          schema={kind.schema}
          groups={["Sound"]}
          bare
          values={laid as unknown as Record<string, unknown>}
          onChange={(field, value, label) =>
            void edits.edit(`${label} of ${laid.name}`, (shot) => {
              const k = at(shot.sounds);
              return k < 0
                ? []
                : [
                    { op: "test", path: `/sounds/${k}/id`, value: laid.id },
                    { op: "replace", path: `/sounds/${k}/${field}`, value },
                  ];
            })
          }
        />
      )}
    </div>
  );
}

/** A sound of the shelf, or a file, laid under the shot from the playhead on. */
function LayAnother() {
  const { record, edits } = useOpenShot();
  const { data } = useAssets();
  const client = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const [busy, setBusy] = useState(false);
  const sounds = (data ?? []).filter((a) => a.kind === "sound");
  const lay = (asset: string, name: string) =>
    edits.edit(`Lay ${name} under it`, (shot) => {
      const value = {
        kind: "laid",
        id: freshShotId("sound", shot),
        name: freshName(name, shot.sounds),
        asset,
        starts: useWorkspace.getState().frame,
      };
      return [{ op: "add", path: "/sounds/-", value }];
    });
  const take = async (file: File) => {
    setBusy(true);
    try {
      const made = await sendFile(file, {});
      if (!made) return;
      await client.invalidateQueries({ queryKey: ["assets"] });
      const asset = await answered(
        api.GET("/api/assets/{digest}", { params: { path: { digest: made.digest } } }),
      );
      if (asset.kind === "sound") await lay(asset.digest, asset.name);
    } finally {
      setBusy(false);
    }
  };
  return (
    <span className="flex items-center gap-1.5" title="It begins at the playhead">
      <input
        ref={input}
        type="file"
        accept="audio/*"
        aria-label="Sound to lay under it"
        className="sr-only"
        onChange={(e) => {
          const file = e.target.files?.[0];
          e.target.value = "";
          if (file) void take(file);
        }}
      />
      {sounds.length > 0 && (
        <Choice
          label="A sound of the shelf"
          value="none"
          names={{ none: "From the shelf …", ...Object.fromEntries(sounds.map((a) => [a.digest, a.name])) }}
          onChange={(digest) => {
            const asset = sounds.find((a) => a.digest === digest);
            if (asset) void lay(asset.digest, asset.name);
          }}
        />
      )}
      <Button disabled={busy || record.document.footage === null} onClick={() => input.current?.click()}>
        {busy ? "Bringing it in …" : "A file …"}
      </Button>
    </span>
  );
}

/** What was measured of the range, and what will be delivered. */
export function HowLoud() {
  const { record, shotId } = useOpenShot();
  const { sound, footage } = record.document;
  const { data } = useQuery({
    queryKey: ["loudness", shotId, footage?.asset, footage?.in_frame, footage?.out_frame, record.number],
    queryFn: () =>
      answered(api.GET("/api/shots/{shot_id}/loudness", { params: { path: { shot_id: shotId } } })),
    placeholderData: (before) => before,
  });
  if (!data) return null;
  if (data.lufs === null) return <p className="mt-1 text-xs text-ink-2">Nothing is heard in this range.</p>;
  const target = sound.level === "as it is" ? null : Number(sound.level);
  const short = target !== null && data.finished !== null && data.finished < target - 0.5;
  return (
    <p className="mt-1 rounded-md bg-paper px-2 py-1 text-xs text-ink-2" data-testid="loudness">
      <span className="num">{data.lufs.toFixed(1)} LUFS</span>
      {data.peak !== null && (
        <>
          , peaks at <span className="num">{data.peak.toFixed(1)} dB</span>
        </>
      )}
      {target !== null && data.finished !== null && (
        <span className={`block ${short ? "text-brick" : ""}`}>
          Delivered at <span className="num">{data.finished.toFixed(1)} LUFS</span>
          {short && ": its peaks allow no more"}
        </span>
      )}
    </p>
  );
}
