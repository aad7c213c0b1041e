import { useCallback } from "react";
import { type Steady, answered, api } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useMeasure } from "~/workspace/actions/jobs";
import { type Draft, motionFrom, outlineOf } from "~/workspace/actions/outlines";
import { useOpenShot } from "~/workspace/context";
import { type Point, valueAt, withValue } from "~/workspace/geometry";
import { followable, kindOf } from "~/workspace/kinds";
import { freshName, freshShotId, round, setOnPlate } from "~/workspace/patches";
import { HANDLE, act, useWorkspace } from "~/workspace/store";
import { clipRange } from "~/workspace/time";

const steadyOf = (id: string, targets: string[], frame: number) => ({
  kind: "steady",
  id,
  name: "Steady",
  targets,
  reference_frame: frame,
});

/** Steady the clip on a motion: the chosen one, or the last measured. */
export function useAddSteady() {
  const { record, edits } = useOpenShot();
  const suggest = useSteadyByItself();
  return useCallback(async () => {
    const shot = record.document;
    const there = shot.plate.find((p) => p.kind === "steady");
    if (there) {
      act({ do: "choose", chosen: { kind: "plate", id: there.id } });
      return;
    }
    const { chosen, frame } = useWorkspace.getState();
    const measured = followable(shot).filter((m) => m.measurement);
    const target = measured.find((m) => chosen.kind === "motion" && m.id === chosen.id) ?? measured.at(-1);
    if (!target) {
      await suggest();
      return;
    }
    const id = freshShotId("plate", shot);
    const value = steadyOf(id, [target.id], frame);
    const done = await edits.edit(`Steady on ${target.name}`, [{ op: "add", path: "/plate/0", value }]);
    if (done) act({ do: "choose", chosen: { kind: "plate", id } });
  }, [record, edits, suggest]);
}

/** Look at the clip, take the first thing that holds, measure it, and steady on it. */
export function useSteadyByItself() {
  const { record, edits } = useOpenShot();
  const measure = useMeasure();
  return useCallback(async () => {
    const shot = record.document;
    const footage = shot.footage;
    if (!footage) return;
    try {
      const [first, last] = clipRange(footage);
      const advice = await answered(
        api.GET("/api/clips/{digest}/advice", {
          params: { path: { digest: footage.asset }, query: { start: first, stop: last + 1 } },
        }),
      );
      const found = advice.suggestions.find((s) => s.outline.length > 0);
      if (!found) {
        complain(
          advice.suggestions[0]?.why ?? "Nothing was found to hold on to. Outline a surface yourself.",
        );
        return;
      }
      const motion = motionFrom(found, advice.movers, freshShotId("motion", shot), shot);
      motion.name = freshName("Found by itself", shot.motions);
      const id = freshShotId("plate", shot);
      const done = await edits.edit("Steady on what was found", [
        { op: "add", path: "/motions/-", value: motion },
        { op: "add", path: "/plate/0", value: steadyOf(id, [motion.id], found.frame) },
      ]);
      if (!done) return;
      act({ do: "choose", chosen: { kind: "plate", id } });
      await measure(motion.id, "both", null);
    } catch (error) {
      complain(error instanceof Error ? error.message : String(error));
    }
  }, [record, edits, measure]);
}

const MENDS = {
  mend: { name: "Mend", values: { kind: "mend", method: "edges" } },
  clean: { name: "Clean frame", values: { kind: "clean" } },
  suggest: { name: "Texture fill", values: { kind: "clean" } },
  freeze: { name: "Freeze", values: { kind: "clean" } },
};

/** What an outline on the current frame shows is taken out; it rides on the chosen motion or the last measured. */
export function useAddMend() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (points: Draft[], how: keyof typeof MENDS) => {
      const shot = record.document;
      const { chosen, frame } = useWorkspace.getState();
      const measured = followable(shot).filter((m) => m.measurement);
      const target = measured.find((m) => chosen.kind === "motion" && m.id === chosen.id) ?? measured.at(-1);
      const id = freshShotId("plate", shot);
      const mask = {
        kind: "outline",
        id: "mask-1",
        name: "Mask",
        rides: target ? `to:${target.id}` : "footage",
        reference_frame: frame,
        outline: outlineOf(frame, points),
        // What is laid over needs a soft rim to vanish; what is filled meets its rim anyway.
        soft: how === "mend" ? 0 : 4,
      };
      const { name, values } = MENDS[how];
      const laid = { target: target?.id ?? null, frames: [{ frame, suggest: how === "suggest" }] };
      const value = {
        ...values,
        id,
        name: freshName(name, shot.plate),
        masks: [mask],
        ...(how === "mend" ? {} : laid),
      };
      const done = await edits.edit(`Add ${value.name}`, [{ op: "add", path: "/plate/-", value }]);
      if (done) act({ do: "choose", chosen: { kind: "plate", id } });
    },
    [record, edits],
  );
}

/** A treatment that needs nothing more to be known: a natural shake, or the grain taken off. */
export function useAddPlain() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (kind: "handheld" | "degrain") => {
      const shot = record.document;
      const id = freshShotId("plate", shot);
      const label = kindOf("treatment", kind)?.label ?? kind;
      const value = { kind, id, name: freshName(label, shot.plate) };
      const done = await edits.edit(`Add ${value.name}`, [{ op: "add", path: "/plate/-", value }]);
      if (done) act({ do: "choose", chosen: { kind: "plate", id } });
    },
    [record, edits],
  );
}

/** Move the steadied picture so that the spot clicked lies in its middle. */
export function usePutInMiddle() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (at: Point) => {
      const shot = record.document;
      const { chosen, frame } = useWorkspace.getState();
      const steady = shot.plate.find(
        (p): p is Steady => p.kind === "steady" && p.id === (chosen as { id?: string }).id,
      );
      act({ do: "tool", tool: HANDLE });
      if (!steady || !shot.footage) return;
      const [dx, dy] = [shot.footage.width / 2 - at.x, shot.footage.height / 2 - at.y];
      await edits.edit("Put this in the middle", (latest) => {
        const now =
          latest.plate.find((p): p is Steady => p.id === steady.id && p.kind === "steady") ?? steady;
        return setOnPlate(latest, steady.id, {
          x: withValue(now.x, frame, round(valueAt(now.x, frame) + dx)),
          y: withValue(now.y, frame, round(valueAt(now.y, frame) + dy)),
          // The zoom is taken about the middle too, or it would move the spot away again.
          centred: true,
        });
      });
    },
    [record, edits],
  );
}
