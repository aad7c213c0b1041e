import { useCallback } from "react";
import { type PointMotion, answered, api } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { freshId, freshName, freshShotId, givePoint, round } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { chosenOf } from "~/workspace/things";

/** Judge a point just set by hand, and offer the nearest good detail when it is not one. */
async function judgePoint(
  asset: string,
  motion: string,
  point: string,
  pattern: number,
  frame: number,
  at: Point,
): Promise<void> {
  try {
    const found = await answered(
      api.GET("/api/clips/{digest}/detail", {
        params: { path: { digest: asset }, query: { frame, x: at.x, y: at.y, pattern_px: pattern } },
      }),
    );
    const [x, y] = found.better ?? [];
    if (found.grade === "good") act({ do: "offer", offer: null });
    else if (x !== undefined && y !== undefined)
      act({ do: "offer", offer: { x, y, message: found.message, point, motion, frame } });
    else complain(found.message);
  } catch {
    // Advice only: the point is set all the same.
  }
}

/** Set a point by hand at the current frame, then judge the place. */
export function useGivePoint() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (motion: PointMotion, pointId: string, at: Point) => {
      const frame = useWorkspace.getState().frame;
      const point = motion.points.find((p) => p.id === pointId);
      if (!point || !record.document.footage) return;
      const first = point.given.some((g) => g.frame === frame) || point.given.length === 0;
      const label = first ? `Move ${point.name}` : `Stake ${point.name} at ${frame}`;
      await edits.edit(label, givePoint(record.document, motion.id, pointId, frame, at.x, at.y));
      await judgePoint(record.document.footage.asset, motion.id, pointId, point.pattern_px, frame, at);
    },
    [record, edits],
  );
}

export const spotAt = (frame: number, place: Point) => ({
  pattern_px: 23,
  reach_px: 40,
  given: [{ frame, x: round(place.x), y: round(place.y) }],
});

/** A new point, in the chosen point motion or in one of its own. */
export function useAddPoint() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (place: Point, at: number) => {
      const shot = record.document;
      const { chosen } = useWorkspace.getState();
      const motion = chosenOf(shot, chosen, "motion");
      let motionId: string;
      let pointId: string;
      if (motion?.kind === "points") {
        motionId = motion.id;
        pointId = freshId("point", motion.points);
        const point = { id: pointId, name: freshName("Point", motion.points), ...spotAt(at, place) };
        const index = shot.motions.indexOf(motion);
        await edits.edit(`Add ${point.name}`, [
          { op: "test", path: `/motions/${index}/id`, value: motionId },
          { op: "add", path: `/motions/${index}/points/-`, value: point },
        ]);
      } else {
        motionId = freshShotId("motion", shot);
        pointId = "point-1";
        const name = freshName("Point motion", shot.motions);
        const points = [{ id: pointId, name: "Point", ...spotAt(at, place) }];
        await edits.edit(`Add ${name}`, [
          { op: "add", path: "/motions/-", value: { kind: "points", id: motionId, name, points } },
        ]);
      }
      act({ do: "choose", chosen: { kind: "motion", id: motionId, point: pointId } });
      if (shot.footage) await judgePoint(shot.footage.asset, motionId, pointId, 23, at, place);
    },
    [record, edits],
  );
}
