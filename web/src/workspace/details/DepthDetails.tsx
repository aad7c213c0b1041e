import { X } from "lucide-react";
import type { DepthMotion } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { Group, Title } from "~/workspace/details/Group";
import { MeasureRow, MotionFoot } from "~/workspace/details/MotionParts";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { mattesOf } from "~/workspace/actions/mattes";
import { groupsOf, kindOf } from "~/workspace/kinds";
import { setOnMotion } from "~/workspace/patches";
import { act } from "~/workspace/store";

/** The chosen depth: measuring, the camera that it goes by, and what is left out. */
export function DepthDetails({ motion }: { motion: DepthMotion }) {
  const { record, edits } = useOpenShot();
  const shot = record.document;
  const kind = kindOf("motion", motion.kind);
  const camera = shot.motions.find((m) => m.id === motion.camera);
  const set = (label: string, values: object) =>
    void edits.edit(label, (latest) => setOnMotion(latest, motion.id, { ...values }));
  const mattes = mattesOf(shot);
  const others = mattes.filter((m) => !motion.ignored.includes(m.id));
  return (
    <>
      <Title
        title={motion.name}
        sub="How far away everything is, in every frame: what stands in the room goes behind what is in front of it."
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready={Boolean(camera?.measurement)} />
      <p className="mb-3 text-xs text-ink-2">
        By{" "}
        <button
          className="text-tide hover:underline"
          onClick={() => act({ do: "choose", chosen: { kind: "motion", id: motion.camera, point: null } })}
        >
          {camera?.name ?? "a camera"}
        </button>
        .{" "}
        {camera?.measurement
          ? "It takes a camera that moves to the side, or towards something. What was measured is kept when you stop."
          : "Measure that first."}
      </p>
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, motion)}
          values={motion as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
        />
      )}
      <Group title="Left out">
        {motion.ignored.map((id) => {
          const name = mattes.find((m) => m.id === id)?.name ?? id;
          return (
            <p key={id} className="flex items-center gap-2 py-0.5 text-xs">
              <span className="min-w-0 flex-1 truncate">{name}</span>
              <button
                className="text-ink-3 hover:text-brick"
                aria-label={`Do not leave out ${name}`}
                onClick={() =>
                  set(`Do not leave out ${name}`, { ignored: motion.ignored.filter((o) => o !== id) })
                }
              >
                <X className="size-3.5" />
              </button>
            </p>
          );
        })}
        {others.map((m) => (
          <button
            key={m.id}
            className="block text-xs text-tide hover:underline"
            onClick={() => set(`Leave out ${m.name}`, { ignored: [...motion.ignored, m.id] })}
          >
            Leave out {m.name}
          </button>
        ))}
        {!mattes.length && (
          <p className="text-xs text-ink-2">
            What moves by itself has no depth here: pick it as a matte, and leave it out.
          </p>
        )}
      </Group>
      <MotionFoot motion={motion} />
    </>
  );
}
