import type { Key, Shot, ShotRecord } from "~/api/client";
import { keysOf, valueAt } from "~/workspace/geometry";
import type { WorkspaceState } from "~/workspace/store";
import { TOOLS } from "~/workspace/tools";

/** The shot's frames and the clip's; the core's `TimeMap`. */

type Footage = NonNullable<Shot["footage"]>;

/** How many frames the shot has, were its range the whole of it. */
export function lengthOf(footage: Pick<Footage, "frames" | "time"> | null | undefined): number {
  if (!footage) return 0;
  if (!footage.time) return footage.frames;
  return (keysOf(footage.time.moment).at(-1)?.frame ?? 0) + 1;
}

/** The clip's moment, in its frames, that a frame of the shot shows. */
export function momentOf(
  footage: Pick<Footage, "frames" | "time"> | null | undefined,
  frame: number,
): number {
  if (!footage?.time) return frame;
  return Math.min(footage.frames - 1, Math.max(0, valueAt(footage.time.moment, frame)));
}

/** The clip's frame that a frame of the shot shows most of. */
export const clipFrame = (footage: Footage | null | undefined, frame: number): number =>
  Math.round(momentOf(footage, frame));

/** The frame of the shot that shows a frame of the clip best; of several the one nearest to `near`. */
export function frameShowing(footage: Footage | null | undefined, wanted: number, near = 0): number {
  if (!footage?.time) return wanted;
  let [best, off] = [0, Infinity];
  for (let f = 0; f < lengthOf(footage); f++) {
    const miss = Math.abs(momentOf(footage, f) - wanted) + 1e-6 * Math.abs(f - near);
    if (miss < off) [best, off] = [f, miss];
  }
  return best;
}

/** How fast the footage runs at a frame: 1 is as it was filmed. */
export function speedAt(footage: Footage, frame: number): number {
  const next = Math.min(frame + 1, lengthOf(footage) - 1);
  const here = next > frame ? frame : Math.max(0, frame - 1);
  const gone = momentOf(footage, here + 1) - momentOf(footage, here);
  return isCut(footage, here) ? momentOf(footage, here) - momentOf(footage, here - 1) : gone;
}

const keysIn = (footage: Footage): Key[] => (footage.time ? keysOf(footage.time.moment) : []);

/** Whether the clip jumps after a frame of the shot. */
const isCut = (footage: Footage, frame: number) =>
  keysIn(footage).some(
    (k, at, all) => k.frame === frame && k.ease === "hold" && all[at + 1]?.frame === frame + 1,
  );

/** A stretch of the shot in which the footage runs in one way. */
export interface Piece {
  first: number;
  last: number;
  /** Speeds at its beginning and its end. */
  from: number;
  to: number;
  /** Whether the clip jumps before it. */
  cut: boolean;
}

/** The stretches of a shot, one after the other. */
export function piecesOf(footage: Footage): Piece[] {
  const keys = keysIn(footage);
  if (!keys.length) return [{ first: 0, last: lengthOf(footage) - 1, from: 1, to: 1, cut: false }];
  const out: Piece[] = [];
  let cut = false;
  keys.forEach((a, k) => {
    const b = keys[k + 1];
    if (b && isCut(footage, a.frame)) {
      // A single frame between two cuts is a piece too.
      if (out.at(-1)?.last !== a.frame) out.push({ first: a.frame, last: a.frame, from: 1, to: 1, cut });
      cut = true;
      return;
    }
    if (!b) {
      if (out.at(-1)?.last !== a.frame) out.push({ first: a.frame, last: a.frame, from: 1, to: 1, cut });
      return;
    }
    const ends = k + 2 === keys.length || isCut(footage, b.frame) ? b.frame : b.frame - 1;
    const step = (f: number) => momentOf(footage, f + 1) - momentOf(footage, f);
    out.push({
      first: a.frame,
      last: ends,
      from: step(a.frame),
      to: step(Math.max(a.frame, b.frame - 1)),
      cut,
    });
    cut = false;
  });
  return out;
}

/** The clip's frames that the range shows, first and last. */
export function clipRange(footage: Footage): [number, number] {
  if (!footage.time) return [footage.in_frame, footage.out_frame];
  let [low, high] = [Infinity, 0];
  for (let f = footage.in_frame; f <= footage.out_frame; f++) {
    const at = momentOf(footage, f);
    low = Math.min(low, at);
    high = Math.max(high, at);
  }
  return [Math.floor(low + 1e-3), Math.ceil(high - 1e-3)];
}

/** Whether what is worked on belongs to the clip's own frames: motions, treatments of the plate, masks, and what makes them. */
export const isClips = (
  w: Pick<WorkspaceState, "chosen" | "mask" | "desk" | "tool" | "adviceOpen">,
): boolean =>
  w.chosen.kind === "motion" ||
  w.chosen.kind === "plate" ||
  w.mask !== null ||
  w.desk !== null ||
  w.adviceOpen ||
  TOOLS[w.tool.kind].clips === true;

/** The shot in its clip's own time. */
export function asFilmed(record: ShotRecord): ShotRecord {
  const footage = record.document.footage;
  if (!footage?.time) return record;
  const [in_frame, out_frame] = clipRange(footage);
  return {
    ...record,
    document: { ...record.document, footage: { ...footage, time: null, in_frame, out_frame } },
  };
}
