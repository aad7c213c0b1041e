import { followable, isFilmed } from "~/workspace/kinds";
import { useCallback } from "react";
import { type FilmedLayer, type Shot, api } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

/** The motion in whose room something on a perch stands. */
export const roomOf = (shot: Shot, perch: string | null): string | null =>
  shot.perches.find((p) => p.id === perch)?.follow.target ?? null;

/** What is filmed in 3D in a motion's room, the nearest in the run sheet first. */
export const filmedIn = (shot: Shot, motion: string | null): FilmedLayer[] =>
  shot.stack.filter(isFilmed).filter((l) => roomOf(shot, l.follow.target) === motion);

/** What in a motion's room particles may come off and fly against. */
export const solidsIn = (shot: Shot, motion: string) =>
  shot.stack.filter(
    (l) => (l.kind === "model" || l.kind === "form") && roomOf(shot, l.follow.target) === motion,
  );

/** The motion or perch that something new should follow: the chosen one, or the last measured. */
export function targetFor(shot: Shot): string | null {
  const { chosen } = useWorkspace.getState();
  if (chosen.kind === "perch") return chosen.id;
  const measured = followable(shot).filter((m) => m.measurement !== null);
  if (chosen.kind === "motion" && measured.some((m) => m.id === chosen.id)) return chosen.id;
  return measured.at(-1)?.id ?? null;
}

/** Where a model stands on its spot: the place on it that is clicked, or its bottom's middle again. It stays where it is. */
export function usePivot() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (layer: string, frame: number, at: Point | null) => {
      const done = await edits.ask(() =>
        api.POST("/api/shots/{shot_id}/layers/{layer_id}/pivot", {
          params: { path: { shot_id: shotId, layer_id: layer } },
          body: { frame, pixel: at && [at.x, at.y] },
        }),
      );
      if (done) act({ do: "tool", tool: HANDLE });
    },
    [edits, shotId],
  );
}
