import type { Follow, Num } from "~/api/client";

export interface Point {
  x: number;
  y: number;
}

/** Nine numbers, row by row, of a (3, 3) homography between pixels. */
export type Matrix = readonly number[];

export const IDENTITY: Matrix = [1, 0, 0, 0, 1, 0, 0, 0, 1];

export function apply(m: Matrix, p: Point): Point {
  const w = m[6]! * p.x + m[7]! * p.y + m[8]!;
  return { x: (m[0]! * p.x + m[1]! * p.y + m[2]!) / w, y: (m[3]! * p.x + m[4]! * p.y + m[5]!) / w };
}

/** The matrix product a b: first b, then a. */
export function times(a: Matrix, b: Matrix): Matrix {
  const out = new Array<number>(9);
  for (let r = 0; r < 3; r++)
    for (let c = 0; c < 3; c++)
      out[3 * r + c] = a[3 * r]! * b[c]! + a[3 * r + 1]! * b[3 + c]! + a[3 * r + 2]! * b[6 + c]!;
  return out;
}

export function invert(m: Matrix): Matrix {
  const [a, b, c, d, e, f, g, h, i] = m as [
    number,
    number,
    number,
    number,
    number,
    number,
    number,
    number,
    number,
  ];
  const out = [
    e * i - f * h,
    c * h - b * i,
    b * f - c * e,
    f * g - d * i,
    a * i - c * g,
    c * d - a * f,
    d * h - e * g,
    b * g - a * h,
    a * e - b * d,
  ];
  const det = a * out[0]! + b * out[3]! + c * out[6]! || 1e-12;
  return out.map((v) => v / det);
}

export const shifted = (x: number, y: number): Matrix => [1, 0, x, 0, 1, y, 0, 0, 1];

export function turnedSized(degrees: number, size: number): Matrix {
  const c = Math.cos((degrees * Math.PI) / 180) * size;
  const s = Math.sin((degrees * Math.PI) / 180) * size;
  return [c, -s, 0, s, c, 0, 0, 0, 1];
}

/** Turn (degrees) and size that a homography has at a spot. */
export function turnAndSize(m: Matrix, at: Point): { turn: number; size: number } {
  const w = m[6]! * at.x + m[7]! * at.y + m[8]!;
  const p = apply(m, at);
  const j = [
    (m[0]! - p.x * m[6]!) / w,
    (m[1]! - p.x * m[7]!) / w,
    (m[3]! - p.y * m[6]!) / w,
    (m[4]! - p.y * m[7]!) / w,
  ] as const;
  return {
    turn: (Math.atan2(j[2] - j[1], j[0] + j[3]) * 180) / Math.PI,
    size: Math.sqrt(Math.abs(j[0] * j[3] - j[1] * j[2])),
  };
}

/** The movement that a thing at a spot takes part in: the browser's copy of the core's `carried`. */
export function carried(parts: Follow, moved: Matrix, start: Matrix, at: Point): Matrix {
  const goes = apply(moved, at);
  const place = parts.shift ? goes : apply(start, at);
  if (parts.perspective) return times(shifted(place.x - goes.x, place.y - goes.y), moved);
  const local = turnAndSize(moved, at);
  const linear = turnedSized(parts.turn ? local.turn : 0, parts.size ? local.size : 1);
  return times(times(shifted(place.x, place.y), linear), shifted(-at.x, -at.y));
}

/** The homography that takes four corners to four others; null where they are folded. */
export function quadMatrix(from: readonly Point[], to: readonly Point[]): Matrix | null {
  const rows: number[][] = [];
  for (let k = 0; k < 4; k++) {
    const { x, y } = from[k]!;
    const { x: u, y: v } = to[k]!;
    rows.push([x, y, 1, 0, 0, 0, -u * x, -u * y, u], [0, 0, 0, x, y, 1, -v * x, -v * y, v]);
  }
  // Gauss-Jordan with the largest pivot.
  for (let c = 0; c < 8; c++) {
    let best = c;
    for (let r = c + 1; r < 8; r++) if (Math.abs(rows[r]![c]!) > Math.abs(rows[best]![c]!)) best = r;
    [rows[c], rows[best]] = [rows[best]!, rows[c]!];
    const pivot = rows[c]![c]!;
    if (Math.abs(pivot) < 1e-9) return null;
    for (let r = 0; r < 8; r++) {
      if (r === c) continue;
      const f = rows[r]![c]! / pivot;
      for (let k = c; k < 9; k++) rows[r]![k]! -= f * rows[c]![k]!;
    }
  }
  return [...rows.map((r, k) => r[8]! / r[k]!), 1];
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
