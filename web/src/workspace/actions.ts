import { useCallback } from "react";
import {
  type Asset,
  type Detail,
  type Job,
  type Layer,
  type PatchStep,
  type PointMotion,
  ApiError,
  get,
  post,
} from "~/api/client";
import { useAssets } from "~/api/queries";
import { useLive } from "~/api/events";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { freshId, freshName, givePoint, round } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

const say = (error: unknown) => complain(error instanceof ApiError ? error.message : String(error));

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
    const found = await get<Detail>(
      `/clips/${asset}/detail?frame=${frame}&x=${at.x.toFixed(2)}&y=${at.y.toFixed(2)}&pattern_px=${pattern}`,
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

/** What a click in the picture does: sets a new point, or plonks the chosen element. */
export function usePlonk() {
  const { record, edits } = useOpenShot();
  const { data: assets } = useAssets();
  return useCallback(
    (at: Point) => {
      const { tool, plonking, frame, chosen } = useWorkspace.getState();
      const shot = record.document;
      if (tool === "add-point") {
        const motion = chosen.kind === "motion" ? shot.motions.find((m) => m.id === chosen.id) : undefined;
        void addPoint(at, frame, motion);
      } else if (tool === "plonk" && plonking) {
        const asset = assets?.find((a) => a.digest === plonking);
        if (asset) void plonkStill(at, frame, asset);
      }

      async function addPoint(place: Point, at: number, motion: PointMotion | undefined) {
        const spot = {
          pattern_px: 23,
          reach_px: 40,
          given: [{ frame: at, x: round(place.x), y: round(place.y) }],
        };
        let motionId: string;
        let pointId: string;
        if (motion) {
          motionId = motion.id;
          pointId = freshId("point", motion.points);
          const point = { id: pointId, name: freshName("Point", motion.points), ...spot };
          const index = shot.motions.indexOf(motion);
          await edits.edit(`Add ${point.name}`, [
            { op: "test", path: `/motions/${index}/id`, value: motionId },
            { op: "add", path: `/motions/${index}/points/-`, value: point },
          ]);
        } else {
          motionId = freshId("motion", shot.motions);
          pointId = "point-1";
          const name = freshName("Point motion", shot.motions);
          const value = {
            kind: "points",
            id: motionId,
            name,
            points: [{ id: pointId, name: "Point", ...spot }],
          };
          await edits.edit(`Add ${name}`, [{ op: "add", path: "/motions/-", value }]);
        }
        act({ do: "choose", chosen: { kind: "motion", id: motionId, point: pointId } });
        if (shot.footage) await judgePoint(shot.footage.asset, motionId, pointId, 23, at, place);
      }

      async function plonkStill(place: Point, at: number, asset: Asset) {
        const id = freshId("layer", shot.stack);
        const name = freshName(asset.name, shot.stack);
        // A new element follows the last measured motion: that is why it was measured.
        const motion = [...shot.motions].reverse().find((m) => m.measurement !== null);
        const value: Partial<Layer> & Record<string, unknown> = {
          kind: "still",
          id,
          name,
          asset: asset.digest,
          width: asset.width,
          height: asset.height,
          x: round(place.x),
          y: round(place.y),
          size: suitableSize(asset, shot.footage?.width ?? 1280),
          ...asset.settings,
          follow: {
            motion: motion?.id ?? null,
            reference_frame: at,
            shift: true,
            turn: true,
            size: true,
          },
        };
        const done = await edits.edit(`Plonk ${name}`, [{ op: "add", path: "/stack/0", value }]);
        if (done) act({ do: "choose", chosen: { kind: "layer", id } });
      }
    },
    [record, edits, assets],
  );
}

const suitableSize = (asset: Asset, width: number) =>
  Math.min(100, Math.round((width * 0.3 * 100) / asset.width));

/** Start measuring a motion. */
export function useMeasure() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (motion: string, direction: "both" | "forward" | "backward", origin: number | null) => {
      try {
        const job = await post<Job>(`/shots/${shotId}/motions/${motion}/measure`, { direction, origin });
        useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      } catch (error) {
        say(error);
      }
    },
    [shotId],
  );
}

export async function stopJob(id: string): Promise<void> {
  try {
    const job = await post<Job>(`/jobs/${id}/stop`);
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}

export async function retryJob(id: string): Promise<void> {
  try {
    const job = await post<Job>(`/jobs/${id}/retry`);
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}

export type { PatchStep };
