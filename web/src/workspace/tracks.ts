import { useMemo } from "react";
import type { Measurement, Motion, PlaneMotion, PointMotion, RoomMotion } from "~/api/client";
import { type PartialTracks, useLive } from "~/api/events";
import { useMeasurement } from "~/api/queries";
import type { Matrix, Point } from "~/workspace/geometry";
import { has } from "~/workspace/kinds";
import { solves } from "~/workspace/spaces";

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
export const FREEDOMS = ["shift", "turn and size", "skew", "perspective"];

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
): Spot | null {
  const row = live ? live.rows.get(`${live.ids.indexOf(point)}:${frame}`) : undefined;
  if (row) return { x: row[2]!, y: row[3]!, confidence: row[4]!, state: row[5]!, reason: row[6]! };
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

/** How sure a motion is in one frame; `fewer` names the freedom used where it is less than asked for. */
export interface Trust {
  state: number;
  confidence: number;
  reason: number;
  fewer: string | null;
}

export interface Health {
  frames: number;
  measured: boolean;
  at: (frame: number) => Trust | null;
}

/** The trust of any motion, frame by frame. */
export function useHealth(motion: Motion): Health {
  const tracks = useTracks(motion.kind === "points" ? motion : null);
  const { data: stored } = useMeasurement(motion.measurement);
  const live = useLive((s) => s.partial[motion.id]);
  return useMemo(() => {
    const measured = stored !== undefined || live !== undefined;
    if (motion.kind === "points") return { frames: tracks.frames, measured, at: pointTrust(motion, tracks) };
    if (solves(motion))
      return { frames: stored?.frames ?? 0, measured, at: (f) => cameraTrust(motion, stored, live, f) };
    if (motion.kind === "plane")
      return { frames: stored?.frames ?? 0, measured, at: (f) => planeTrust(motion, stored, live, f) };
    return { frames: stored?.frames ?? 0, measured, at: (f) => wholeTrust(motion, stored, live, f) };
  }, [motion, tracks, stored, live]);
}

const pointTrust =
  (motion: PointMotion, tracks: Tracks) =>
  (frame: number): Trust | null => {
    const spots = motion.points.map((p) => tracks.at(p.id, frame)).filter((s) => s !== null);
    if (!spots.length) return null;
    const worst = spots.reduce((a, b) =>
      b.state === LOST || (a.state !== LOST && b.confidence < a.confidence) ? b : a,
    );
    return { state: worst.state, confidence: worst.confidence, reason: worst.reason, fewer: null };
  };

const fewerThan = (motion: PlaneMotion, freedom: number): string | null => {
  const asked = ["translation", "similarity", "affine", "perspective"].indexOf(motion.freedom);
  return freedom < asked ? (FREEDOMS[freedom] ?? null) : null;
};

function planeTrust(
  motion: PlaneMotion,
  stored: Measurement | undefined,
  live: PartialTracks | undefined,
  frame: number,
): Trust | null {
  const row = live?.rows.get(`${frame}`);
  if (row) return { confidence: row[1]!, state: row[2]!, reason: row[3]!, fewer: fewerThan(motion, row[4]!) };
  const plane = motion.measurement ? stored?.plane : undefined;
  const state = plane?.state[frame] ?? NONE;
  if (!plane || state === NONE) return null;
  return {
    state,
    confidence: plane.confidence[frame] ?? 0,
    reason: plane.reason[frame] ?? 0,
    fewer: state === GIVEN ? null : fewerThan(motion, plane.freedom[frame] ?? 3),
  };
}

function cameraTrust(
  motion: RoomMotion,
  stored: Measurement | undefined,
  live: PartialTracks | undefined,
  frame: number,
): Trust | null {
  const row = live?.kind === "form" ? live.rows.get(`${frame}`) : undefined;
  if (row) return { confidence: row[1]!, state: row[2]!, reason: row[3]!, fewer: null };
  const camera = motion.measurement ? stored?.camera : undefined;
  const state = camera?.state[frame] ?? NONE;
  if (!camera || state === NONE) return null;
  return {
    state,
    confidence: camera.confidence[frame] ?? 0,
    reason: camera.reason[frame] ?? 0,
    fewer: null,
  };
}

/** Of a motion that has one answer a frame, and nothing more that is known here. */
function wholeTrust(
  motion: Motion,
  stored: Measurement | undefined,
  live: PartialTracks | undefined,
  frame: number,
): Trust | null {
  const row = live?.rows.get(`${frame}`);
  if (row) return { confidence: row[1]!, state: row[2]!, reason: row[3]!, fewer: null };
  const state = stored?.whole?.state[frame] ?? NONE;
  if (!motion.measurement || !stored?.whole || state === NONE) return null;
  return {
    state,
    confidence: stored.whole.confidence[frame] ?? 0,
    reason: stored.whole.reason[frame] ?? 0,
    fewer: null,
  };
}

/** The homography being measured right now in a frame, if there is one. */
export function livePlane(live: PartialTracks | undefined, frame: number): Matrix | null {
  const row = live?.rows.get(`${frame}`);
  return live?.kind === "plane" && row ? row.slice(5) : null;
}

/** Where a point's handle stands in a frame: measured, given, or the nearest frame that knows. */
export function handleSpot(tracks: Tracks, motion: PointMotion, point: string, frame: number): Spot {
  const here = tracks.at(point, frame);
  if (here) return here;
  const given = motion.points.find((p) => p.id === point)?.given ?? [];
  const near = [...given].sort((a, b) => Math.abs(a.frame - frame) - Math.abs(b.frame - frame))[0];
  return { x: near?.x ?? 0, y: near?.y ?? 0, state: NONE, confidence: 0, reason: 0 };
}

/** Runs of frames of which something is so, first and last of each. */
export function runsOf(first: number, last: number, is: (frame: number) => boolean): [number, number][] {
  const runs: [number, number][] = [];
  for (let f = first; f <= last; f++) {
    if (!is(f)) continue;
    const run = runs.at(-1);
    if (run && run[1] === f - 1) run[1] = f;
    else runs.push([f, f]);
  }
  return runs;
}

/** Trust under which a matte wants to be looked at. */
export const UNSURE = 0.5;

/** Runs of frames that want a look, for cards and lists: lost ones; of a matte unsure ones, for what it covers may well go. */
export const badRuns = (motion: Motion, health: Health, first: number, last: number): [number, number][] =>
  runsOf(first, last, (f) => {
    const trust = health.at(f);
    if (has("motion", motion, "matte")) return trust?.state === TRACKED && trust.confidence < UNSURE;
    return trust?.state === LOST;
  });
