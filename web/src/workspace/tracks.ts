import { useMemo } from "react";
import type { Measurement, PointMotion } from "~/api/client";
import { type PartialTracks, useLive } from "~/api/events";
import { useMeasurement } from "~/api/queries";
import type { Point } from "~/workspace/geometry";

export const NONE = 0;
export const TRACKED = 1;
export const LOST = 2;
export const GIVEN = 3;
export const REASONS = [
  "",
  "left the frame",
  "covered or changed",
  "too blurred",
  "no match in reach",
  "flat here",
];

/** What is known of one point in one frame. */
export interface Spot extends Point {
  state: number;
  confidence: number;
  reason: number;
}

export interface Tracks {
  frames: number;
  measured: boolean;
  /** Stored results, with what is being measured right now laid over them. */
  at: (point: string, frame: number) => Spot | null;
}

function lookUp(
  stored: Measurement | undefined,
  live: PartialTracks | undefined,
  point: string,
  frame: number,
) {
  const row = live ? live.rows.get(`${live.ids.indexOf(point)}:${frame}`) : undefined;
  if (row) return { x: row[2], y: row[3], confidence: row[4], state: row[5], reason: row[6] };
  const track = stored?.points.find((p) => p.id === point);
  if (!track) return null;
  const state = track.state[frame] ?? NONE;
  if (state === NONE) return null;
  return {
    x: track.xy[2 * frame]!,
    y: track.xy[2 * frame + 1]!,
    state,
    confidence: track.confidence[frame] ?? 0,
    reason: track.reason[frame] ?? 0,
  };
}

export function useTracks(motion: PointMotion | null): Tracks {
  const { data: stored } = useMeasurement(motion?.measurement ?? null);
  const live = useLive((s) => (motion ? s.partial[motion.id] : undefined));
  return useMemo(
    () => ({
      frames: stored?.frames ?? 0,
      measured: stored !== undefined || live !== undefined,
      at: (point, frame) => {
        const found = lookUp(motion?.measurement ? stored : undefined, live, point, frame);
        const given = motion?.points.find((p) => p.id === point)?.given.find((g) => g.frame === frame);
        if (given) return { x: given.x, y: given.y, state: GIVEN, confidence: 1, reason: 0 };
        return found;
      },
    }),
    [stored, live, motion],
  );
}

/** Where a point's handle stands in a frame: measured, given, or the nearest frame that knows. */
export function handleSpot(tracks: Tracks, motion: PointMotion, point: string, frame: number): Spot {
  const here = tracks.at(point, frame);
  if (here) return here;
  const given = motion.points.find((p) => p.id === point)?.given ?? [];
  const near = [...given].sort((a, b) => Math.abs(a.frame - frame) - Math.abs(b.frame - frame))[0];
  return { x: near?.x ?? 0, y: near?.y ?? 0, state: NONE, confidence: 0, reason: 0 };
}

/** Runs of lost frames, for cards and lists. */
export function lostRuns(
  tracks: Tracks,
  motion: PointMotion,
  first: number,
  last: number,
): [number, number][] {
  const runs: [number, number][] = [];
  for (let f = first; f <= last; f++) {
    if (!motion.points.some((p) => tracks.at(p.id, f)?.state === LOST)) continue;
    const run = runs.at(-1);
    if (run && run[1] === f - 1) run[1] = f;
    else runs.push([f, f]);
  }
  return runs;
}
