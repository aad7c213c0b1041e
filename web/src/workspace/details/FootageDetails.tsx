import { useRef, useState } from "react";
import { useLive } from "~/api/events";
import { useAsset } from "~/api/queries";
import { boxedIfWanted, FOOTAGE, isPicture } from "~/api/sequence";
import { sendFile, useUploads } from "~/api/upload";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { NumberBox } from "~/ui/NumberBox";
import { Progress } from "~/ui/Progress";
import { useOpenShot } from "~/workspace/context";
import { FootageDialog } from "~/workspace/FootageDialog";
import { SpeedGroup } from "~/workspace/details/SpeedGroup";
import { SoundGroup } from "~/workspace/details/SoundGroup";
import { BehindFootage } from "~/workspace/details/FrontParts";
import { Group, Row, Title } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, kindOf } from "~/workspace/kinds";
import { lengthOf } from "~/workspace/time";
import { filmedFps, fpsOf, rateText } from "~/workspace/viewer/rates";

/** When something was filmed, by the clock that its file went by. */
const whenText = (iso: string) =>
  `${iso.slice(0, 10)}, ${iso.slice(11, 16)}${iso.endsWith("+00:00") ? " UTC" : ""}`;

export function FootageDetails() {
  const { record, edits, shotId } = useOpenShot();
  const footage = record.document.footage!;
  const asset = useAsset(footage.asset);
  const sending = Object.values(useUploads((s) => s.list))[0];
  const conforming = useLive((s) =>
    Object.values(s.jobs).find(
      (j) => j.kind === "conform" && j.shot === shotId && ["queued", "running"].includes(j.state),
    ),
  );
  const input = useRef<HTMLInputElement>(null);
  const [dialog, setDialog] = useState<"shelf" | "empty" | null>(null);
  const kind = kindOf("footage", "clip");
  const [fps, filmed] = [fpsOf(footage), filmedFps(footage)];
  const set = (which: "in_frame" | "out_frame", value: number) =>
    void edits.edit(which === "in_frame" ? "Range begins" : "Range ends", [
      { op: "replace", path: `/footage/${which}`, value },
    ]);
  return (
    <>
      <Title title={footage.name} sub="The clip this shot is made on. The original is kept as it came." />
      <Group title="Clip">
        <Fact label="Size" value={`${footage.width} × ${footage.height}`} />
        <Fact label="Filmed at" value={`${rateText(filmed)} frames/s`} />
        <Row
          label="Shown at"
          help="Each frame is shown, slower or faster; what stands in the stack keeps its own time"
          wide
        >
          <Choice
            label="Shown at"
            value={footage.played_at ?? "own"}
            names={shownAt(footage.played_at)}
            onChange={(v) =>
              void edits.edit(v === "own" ? "Shown as filmed" : `Shown at ${v.split("/")[0]} frames/s`, [
                { op: "replace", path: "/footage/played_at", value: v === "own" ? null : v },
              ])
            }
          />
        </Row>
        {fps !== filmed && (
          <p className="text-xs text-ink-2">
            <span className="num">{Math.round((100 * fps) / filmed)} %</span> of its speed; its sound is{" "}
            {fps < filmed ? "drawn out" : "pressed together"}
            {record.document.sound.pitch === "kept"
              ? "."
              : fps < filmed
                ? " and lower, as of a tape."
                : " and higher, as of a tape."}
          </p>
        )}
        <Fact
          label="Length"
          value={`${lengthOf(footage)} frames, ${(lengthOf(footage) / fps).toFixed(2)} s`}
        />
        {asset?.missing && (
          <p className="text-xs text-brick">
            Pictures <span className="num">{asset.missing}</span> were not there; the one before each stands
            for it.
          </p>
        )}
        {asset && asset.transfer !== "sdr" && (
          <Fact label="Light" value={`HDR (${asset.transfer.toUpperCase()})`} />
        )}
        {asset?.taken && <Fact label="Filmed on" value={whenText(asset.taken)} />}
        {asset?.gyroscope && <Fact label="Gyroscope" value="recorded" />}
        <Fact label="Sound" value={asset ? (asset.has_audio ? "yes" : "none") : "…"} />
      </Group>
      <SpeedGroup />
      <BehindFootage />
      <Group title="Range">
        <Row label="First frame" wide>
          <NumberBox
            label="First frame"
            value={footage.in_frame}
            low={0}
            high={footage.out_frame}
            step={1}
            unit=""
            onCommit={(v) => set("in_frame", Math.round(v))}
          />
        </Row>
        <Row label="Last frame" wide>
          <NumberBox
            label="Last frame"
            value={footage.out_frame}
            low={footage.in_frame}
            high={lengthOf(footage) - 1}
            step={1}
            unit=""
            onCommit={(v) => set("out_frame", Math.round(v))}
          />
        </Row>
        <p className="mt-1 text-xs text-ink-2">
          Or drag the ends in the time strip; I and O set them at the playhead.
        </p>
      </Group>
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, footage)}
          values={footage as unknown as Record<string, unknown>}
          onChange={(field, value, label) =>
            void edits.edit(`${label} of the footage`, [{ op: "replace", path: `/footage/${field}`, value }])
          }
        />
      )}
      <SoundGroup own={asset?.has_audio ?? false} />
      <div className="border-t border-line pt-3">
        <input
          ref={input}
          type="file"
          accept={FOOTAGE}
          multiple
          className="sr-only"
          aria-label="Another clip"
          onChange={async (e) => {
            const files = [...(e.target.files ?? [])];
            e.target.value = "";
            const one = files.length > 1 && files.every(isPicture) ? await boxedIfWanted(files) : files[0];
            if (one) void sendFile(one, { shot: shotId });
          }}
        />
        <span className="flex flex-wrap gap-1.5">
          <Button onClick={() => input.current?.click()}>Use another clip</Button>
          <Button onClick={() => setDialog("shelf")}>From the shelf …</Button>
          <Button onClick={() => setDialog("empty")}>Empty canvas …</Button>
        </span>
        <FootageDialog what={dialog} onClose={() => setDialog(null)} />
        {(sending ?? conforming) && (
          <p className="mt-3 flex items-center gap-2 text-xs">
            {sending ? `Bringing in ${sending.name}` : conforming?.label}
            <Progress
              done={sending?.sent ?? conforming?.done ?? 0}
              total={sending?.size ?? conforming?.total ?? 1}
              label="Another clip"
            />
          </p>
        )}
      </div>
    </>
  );
}

/** Rates at which clips are shown; another one that is set stays among them. */
function shownAt(set: string | null): Record<string, string> {
  const names: Record<string, string> = { own: "As it was filmed" };
  for (const rate of ["24", "25", "30", "50", "60"]) names[`${rate}/1`] = `${rate} frames/s`;
  if (set && !names[set]) names[set] = `${rateText(fpsOf({ rate: set, played_at: null }))} frames/s`;
  return names;
}

const Fact = ({ label, value }: { label: string; value: string }) => (
  <Row label={label} wide>
    <span className="num text-ink">{value}</span>
  </Row>
);
