import { Layers2, MousePointerClick, Scissors, X } from "lucide-react";
import type { MatteMotion } from "~/api/client";
import { Button } from "~/ui/Button";
import { useMatteUse } from "~/workspace/actions/mattes";
import { useOpenShot } from "~/workspace/context";
import { Group, Title } from "~/workspace/details/Group";
import { MeasureRow, MotionFoot } from "~/workspace/details/MotionParts";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, kindOf } from "~/workspace/kinds";
import { setOnMotion } from "~/workspace/patches";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

/** The chosen matte: its clicks, measuring, its edge, and what is done by it. */
export function MatteDetails({ motion }: { motion: MatteMotion }) {
  const { edits } = useOpenShot();
  const tool = useWorkspace((s) => s.tool.kind);
  const use = useMatteUse();
  const kind = kindOf("motion", motion.kind);
  const set = (label: string, values: object) =>
    void edits.edit(label, (latest) => setOnMotion(latest, motion.id, { ...values }));
  const frames = [...new Set([...motion.clicks, ...motion.boxes].map((c) => c.frame))].sort((a, b) => a - b);
  const measured = motion.measurement !== null;
  return (
    <>
      <Title
        title={motion.name}
        sub="What a person or a thing covers in every frame, from a click on it."
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready={motion.clicks.some((c) => c.subject) || motion.boxes.length > 0} />
      <Group
        title="Picked by"
        side={
          <Button
            aria-pressed={tool === "pick-out"}
            title="Click on more of it; with Alt on what it is not; or drag a loose box round it"
            onClick={() => act({ do: "tool", tool: tool === "pick-out" ? HANDLE : { kind: "pick-out" } })}
          >
            <MousePointerClick className="size-3.5" /> Click
          </Button>
        }
      >
        <ul>
          {frames.map((frame) => {
            const here = motion.clicks.filter((c) => c.frame === frame);
            const on = here.filter((c) => c.subject).length;
            const boxes = motion.boxes.filter((b) => b.frame === frame).length;
            const parts = [
              on ? `${on} on it` : "",
              here.length > on ? `${here.length - on} not it` : "",
              boxes ? `${boxes} box${boxes > 1 ? "es" : ""}` : "",
            ];
            return (
              <li key={frame} className="flex items-center gap-2 py-0.5 text-xs">
                <button
                  className="min-w-0 flex-1 truncate text-left text-tide hover:underline"
                  onClick={() => act({ do: "frame", frame })}
                >
                  Frame <span className="num">{frame}</span>: {parts.filter(Boolean).join(", ")}
                </button>
                <button
                  className="text-ink-3 hover:text-brick"
                  aria-label={`Take away what is picked at ${frame}`}
                  onClick={() =>
                    void edits.edit(`Nothing picked at ${frame}`, (latest) => {
                      const now = latest.motions.find((m) => m.id === motion.id);
                      if (now?.kind !== "matte") return [];
                      return setOnMotion(latest, motion.id, {
                        clicks: now.clicks.filter((c) => c.frame !== frame),
                        boxes: now.boxes.filter((b) => b.frame !== frame),
                      });
                    })
                  }
                >
                  <X className="size-3.5" />
                </button>
              </li>
            );
          })}
        </ul>
        <p className="text-xs text-ink-2">
          {frames.length
            ? "Where it goes wrong in a frame, click there as well, Alt for what it is not, and measure again: only the stretch round that frame is done anew."
            : "Click on a person or a thing in the picture, or drag a loose box round it."}
        </p>
      </Group>
      <Group title="Use it">
        <div className="flex flex-wrap gap-1">
          <Button
            disabled={!measured}
            title="The footage once more, cut by it: what lies under that in the stack is behind it"
            onClick={() => void use(motion.id, "front")}
          >
            <Layers2 className="size-3.5" /> Bring it forward
          </Button>
          <Button
            disabled={!measured}
            title="Takes it out of the footage: filled with what other frames show there"
            onClick={() => void use(motion.id, "take out")}
          >
            <Scissors className="size-3.5" /> Take it out
          </Button>
          <Button
            disabled={!measured}
            title="Surfaces, the camera and forms look past it when they are measured again"
            onClick={() => void use(motion.id, "ignore")}
          >
            Ignore it
          </Button>
        </div>
        <p className="mt-1 text-xs text-ink-2">
          {measured
            ? "Masks of layers, mends and looks can take it too."
            : "Measure it first. Then it can cut, be taken out, or be ignored."}
        </p>
      </Group>
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, motion)}
          values={motion as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
        />
      )}
      <MotionFoot motion={motion} />
    </>
  );
}
