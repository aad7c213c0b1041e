import { ChevronLeft, ChevronRight, Trash2 } from "lucide-react";
import type { Motion } from "~/api/client";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { stopJob, useMeasure } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { ApartGroup } from "~/workspace/details/ApartGroup";
import { Group, Title } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, has, kindOf, told } from "~/workspace/kinds";
import { allLayers, setOnMotion } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { LOST, useHealth } from "~/workspace/tracks";

/** Measure, both ways or on from here; over a gap only when there is one here; Stop while it runs. */
export function MeasureRow({ motion, ready }: { motion: Motion; ready: boolean }) {
  const frame = useWorkspace((s) => s.frame);
  const measure = useMeasure();
  const health = useHealth(motion);
  const job = useLive((s) =>
    Object.values(s.jobs).find(
      (j) => j.motion === motion.id && ["queued", "running", "stopping"].includes(j.state),
    ),
  );
  const here = health.at(frame);
  const canGoOn = here !== null && here.state !== LOST;
  const whole = has("motion", motion, "whole");
  const inGap = !whole && motion.measurement !== null && (here === null || here.state === LOST);
  return (
    <>
      <div className="mb-2 flex gap-1.5">
        {!whole && (
          <Button
            className="px-2"
            disabled={Boolean(job) || !canGoOn}
            title="Measure backward from this frame"
            onClick={() => void measure(motion.id, "backward", frame)}
          >
            <ChevronLeft className="size-3.5" /> Back
          </Button>
        )}
        {job ? (
          <Button className="flex-1 justify-center" onClick={() => void stopJob(job.id)}>
            Stop
          </Button>
        ) : (
          <Button
            look="primary"
            className="flex-1 justify-center"
            disabled={!ready}
            title={whole ? "Measure the whole range (M)" : "Measure the whole range, both ways (M)"}
            onClick={() => void measure(motion.id, "both", null)}
          >
            {motion.measurement ? "Measure again" : "Measure"}
          </Button>
        )}
        {!whole && (
          <Button
            className="px-2"
            disabled={Boolean(job) || !canGoOn}
            title="Measure forward from this frame"
            onClick={() => void measure(motion.id, "forward", frame)}
          >
            On <ChevronRight className="size-3.5" />
          </Button>
        )}
      </div>
      {inGap && !job && (
        <Button
          className="mb-2 w-full justify-center"
          title="Measure from both sides of the frames on which it is lost, and nothing else"
          onClick={() => void measure(motion.id, "gap", frame)}
        >
          Measure only this gap
        </Button>
      )}
    </>
  );
}

/** Who follows a motion. */
export function UsedBy({ motion }: { motion: Motion }) {
  const { record } = useOpenShot();
  const shot = record.document;
  const users = [
    ...shot.perches
      .filter((p) => p.follow.target === motion.id)
      .map((p) => ({ id: p.id, name: p.name, chosen: { kind: "perch", id: p.id } as const })),
    ...allLayers(shot).flatMap((l) => {
      const on =
        ("follow" in l && l.follow.target === motion.id) ||
        (l.kind === "pin" && l.plane === motion.id) ||
        (l.kind === "beam" && l.anchors.some((a) => a.target === motion.id));
      return on ? [{ id: l.id, name: l.name, chosen: { kind: "layer", id: l.id } as const }] : [];
    }),
  ];
  return (
    <Group
      title="Used by"
      side={
        <button
          className="font-semibold text-tide"
          onClick={() => act({ do: "tool", tool: { kind: "perch" } })}
          title="Click in the picture to put a perch there (B)"
        >
          Add a perch
        </button>
      }
    >
      {users.map((u) => (
        <button
          key={u.id}
          className="block text-xs text-tide hover:underline"
          onClick={() => act({ do: "choose", chosen: u.chosen })}
        >
          {u.name}
        </button>
      ))}
      {!users.length && (
        <p className="text-xs text-ink-2">Nothing yet. Plonk an element, and it follows this.</p>
      )}
    </Group>
  );
}

/** The measurement as files, and taking the motion away. */
export function MotionFoot({ motion }: { motion: Motion }) {
  return (
    <>
      {!has("motion", motion, "unfollowed") && <ApartGroup motion={motion} />}
      <RemoveRow motion={motion} />
    </>
  );
}

function RemoveRow({ motion }: { motion: Motion }) {
  const { shotId, edits } = useOpenShot();
  const formats = kindOf("motion", motion.kind)?.formats ?? [];
  return (
    <div className="flex flex-wrap items-center gap-1.5 border-t border-line pt-3">
      {formats
        .filter((f) => motion.measurement !== null || !f.measured)
        .map(({ name, label }) => (
          <a
            key={name}
            className="rounded-[7px] border border-line bg-raise px-2 py-1 text-xs"
            href={`/api/shots/${shotId}/motions/${motion.id}/export/${name}`}
            download
          >
            {label}
          </a>
        ))}
      <span className="flex-1" />
      <Button
        aria-label={`Remove ${motion.name}`}
        onClick={() => {
          void edits.operate({ do: "remove", thing: motion.id });
          act({ do: "choose", chosen: { kind: "none" } });
        }}
      >
        <Trash2 className="size-3.5" />
      </Button>
    </div>
  );
}

/** A kind of motion that has nothing of its own here: a form of its settings. */
export function PlainMotion({ motion }: { motion: Motion }) {
  const { edits } = useOpenShot();
  const kind = kindOf("motion", motion.kind);
  const set = (label: string, values: object) =>
    void edits.edit(label, (latest) => setOnMotion(latest, motion.id, { ...values }));
  return (
    <>
      <Title
        title={motion.name}
        sub={told(kind?.says, motion) || kind?.help}
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready />
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, motion)}
          values={motion as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
        />
      )}
      <UsedBy motion={motion} />
      <MotionFoot motion={motion} />
    </>
  );
}
