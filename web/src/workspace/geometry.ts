import type { Follow, Layer, Num } from "~/api/client";

export interface Point {
  x: number;
  y: number;
}

/** Rows [a, b, c, d, e, f] of x' = a x + b y + c, y' = d x + e y + f. */
export type Affine = readonly [number, number, number, number, number, number];

export const IDENTITY: Affine = [1, 0, 0, 0, 1, 0];

export const apply = (m: Affine, p: Point): Point => ({
  x: m[0] * p.x + m[1] * p.y + m[2],
  y: m[3] * p.x + m[4] * p.y + m[5],
});

export function invert(m: Affine): Affine {
  const det = m[0] * m[4] - m[1] * m[3] || 1e-9;
  const a = m[4] / det;
  const b = -m[1] / det;
  const d = -m[3] / det;
  const e = m[0] / det;
  return [a, b, -(a * m[2] + b * m[5]), d, e, -(d * m[2] + e * m[5])];
}

/** The value of a number at a frame: the browser's copy of the core's one evaluator. */
export function valueAt(number: Num, frame: number): number {
  if (typeof number === "number") return number;
  const keys = number.keys;
  const first = keys[0]!;
  if (frame <= first.frame) return first.value;
  for (let k = 0; k + 1 < keys.length; k++) {
    const a = keys[k]!;
    const b = keys[k + 1]!;
    if (frame < b.frame) {
      if (a.ease === "hold") return a.value;
      let u = (frame - a.frame) / (b.frame - a.frame);
      if (a.ease === "smooth") u = u * u * (3 - 2 * u);
      return a.value + (b.value - a.value) * u;
    }
  }
  return keys.at(-1)!.value;
}

/** The number with a value set at a frame: a constant stays one, keys get a key there. */
export function withValue(number: Num, frame: number, value: number): Num {
  if (typeof number === "number") return value;
  const others = number.keys.filter((k) => k.frame !== frame);
  const here = number.keys.find((k) => k.frame === frame);
  const ease = here?.ease ?? "smooth";
  return { keys: [...others, { frame, value, ease }].sort((a, b) => a.frame - b.frame) };
}

export const isKeyed = (number: Num): number is Exclude<Num, number> => typeof number !== "number";

export interface Carried {
  place: Point;
  angle: number;
  size: number;
}

/** What following does to a spot, as the core's `carried`. */
export function carried(follow: Follow, matrices: number[][] | undefined, frame: number, at: Point): Carried {
  if (!follow.motion || !matrices?.length) return { place: at, angle: 0, size: 1 };
  const row = matrices[Math.min(frame, matrices.length - 1)]!;
  const m = row as unknown as Affine;
  return {
    place: follow.shift ? apply(m, at) : at,
    angle: follow.turn ? Math.atan2(m[3], m[0]) : 0,
    size: follow.size ? Math.hypot(m[0], m[3]) : 1,
  };
}

/** From the still's pixels to the frame's pixels, as the core's `frame_from_still`. */
export function frameFromStill(layer: Layer, matrices: number[][] | undefined, frame: number): Affine {
  const at = { x: valueAt(layer.x, frame), y: valueAt(layer.y, frame) };
  const c = carried(layer.follow, matrices, frame, at);
  const angle = (valueAt(layer.turn, frame) * Math.PI) / 180 + c.angle;
  const scale = (valueAt(layer.size, frame) / 100) * c.size;
  const cos = Math.cos(angle) * scale;
  const sin = Math.sin(angle) * scale;
  const [w, h] = [layer.width / 2, layer.height / 2];
  return [cos, -sin, c.place.x - cos * w + sin * h, sin, cos, c.place.y - sin * w - cos * h];
}

/** The pixel of the follow's reference frame that lies at `p` in `frame`. */
export function toReference(
  follow: Follow,
  matrices: number[][] | undefined,
  frame: number,
  p: Point,
): Point {
  if (!follow.motion || !follow.shift || !matrices?.length) return p;
  const row = matrices[Math.min(frame, matrices.length - 1)]!;
  return apply(invert(row as unknown as Affine), p);
}
