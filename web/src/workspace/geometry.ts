import type { Follow, Key, Keyed, Num, Wobble } from "~/api/client";

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

/** A number without its wobble. */
export const baseOf = (number: Num): number | Keyed =>
  typeof number === "number" || "keys" in number ? number : number.base;

export const isKeyed = (number: Num): boolean => typeof baseOf(number) !== "number";

/** The keys of a number, none for a constant. */
export function keysOf(number: Num): Key[] {
  const base = baseOf(number);
  return typeof base === "number" ? [] : base.keys;
}

/** The number with other keys or another constant, its wobble kept. */
export const withBase = (number: Num, base: number | Keyed): Num =>
  typeof number === "object" && "wobble" in number ? { ...number, base } : base;

/** The value of a number at a frame: the browser's copy of the core's one evaluator. */
export function valueAt(number: Num, frame: number): number {
  if (typeof number === "object" && "wobble" in number)
    return valueAt(number.base, frame) + wobbleAt(number.wobble, frame);
  return baseAt(number, frame);
}

/** Rows of numbers at a fractional index: straight between two. */
export function rowAt<T extends readonly number[]>(rows: readonly T[], at: number): T {
  const low = Math.min(Math.max(Math.floor(at), 0), rows.length - 1);
  const [a, b] = [rows[low]!, rows[Math.min(low + 1, rows.length - 1)]!];
  const u = at - low;
  return u <= 0 || a === b ? a : (a.map((v, k) => v + u * (b[k]! - v)) as unknown as T);
}

/** The value of a number at a frame, without its wobble. */
export function baseAt(number: Num, frame: number): number {
  const base = baseOf(number);
  if (typeof base === "number") return base;
  const keys = base.keys;
  const first = keys[0]!;
  if (frame <= first.frame) return first.value;
  for (let k = 0; k + 1 < keys.length; k++) {
    const a = keys[k]!;
    const b = keys[k + 1]!;
    if (frame < b.frame) {
      if (a.ease === "hold") return a.value;
      let u = (frame - a.frame) / (b.frame - a.frame);
      if (a.ease === "curve") return curved(a, b, u);
      if (a.ease === "smooth") u = u * u * (3 - 2 * u);
      return a.value + (b.value - a.value) * u;
    }
  }
  return keys.at(-1)!.value;
}

function curved(a: Key, b: Key, u: number): number {
  const p = a.out_time;
  const q = 1 - b.in_time;
  let low = 0;
  let high = 1;
  for (let k = 0; k < 40; k++) {
    const t = (low + high) / 2;
    if (3 * (1 - t) ** 2 * t * p + 3 * (1 - t) * t * t * q + t ** 3 < u) low = t;
    else high = t;
  }
  const t = (low + high) / 2;
  return (
    (1 - t) ** 3 * a.value +
    3 * (1 - t) ** 2 * t * (a.value + a.out_value) +
    3 * (1 - t) * t * t * (b.value + b.in_value) +
    t ** 3 * b.value
  );
}

/** How far a wobble is from nought at a frame: the browser's copy of the core's `wobble_at`. */
export function wobbleAt(w: Wobble, frame: number): number {
  const t = frame / w.every;
  if (w.kind === "steps") return w.amount * random(w.seed, Math.floor(t));
  if (w.kind === "flicker")
    return w.amount * (0.55 * random(w.seed, Math.floor(t)) + 0.45 * drift(w.seed + 5003, t / 5));
  return (w.amount * (drift(w.seed, t) + 0.4 * drift(w.seed + 7919, t * 2.37))) / 1.4;
}

function drift(seed: number, t: number): number {
  const k = Math.floor(t);
  let u = t - k;
  u = u * u * u * (u * (6 * u - 15) + 10);
  return random(seed, k) * (1 - u) + random(seed, k + 1) * u;
}

function random(seed: number, k: number): number {
  let h = Math.imul(k, 0x9e3779b1) ^ Math.imul(seed, 0x85ebca6b);
  h = Math.imul(h ^ (h >>> 16), 0x7feb352d);
  h = Math.imul(h ^ (h >>> 15), 0x846ca68b);
  return ((h ^ (h >>> 16)) >>> 0) / 2 ** 31 - 1;
}

/** A key as it is made new. */
export const newKey = (frame: number, value: number, ease: Key["ease"] = "smooth"): Key => ({
  frame,
  value,
  ease,
  out_time: 0.35,
  out_value: 0,
  in_time: 0.35,
  in_value: 0,
});

/**
 * The number with a value set at a frame: a constant stays one, keys get a key there. Over all keys, the whole
 * path is moved by the difference, or by the ratio for what is measured in ratios.
 */
export function withValue(
  number: Num,
  frame: number,
  value: number,
  over: "here" | "move" | "scale" = "here",
): Num {
  const wobbled = valueAt(number, frame) - baseAt(number, frame);
  const wanted = value - wobbled;
  const base = baseOf(number);
  if (typeof base === "number") return withBase(number, wanted);
  if (over !== "here") {
    const now = baseAt(number, frame);
    const by = over === "scale" && Math.abs(now) > 1e-9 ? wanted / now : null;
    const moved = (v: number) => (by === null ? v + wanted - now : v * by);
    return withBase(number, {
      keys: base.keys.map((k) => ({
        ...k,
        value: moved(k.value),
        out_value: by === null ? k.out_value : k.out_value * by,
        in_value: by === null ? k.in_value : k.in_value * by,
      })),
    });
  }
  const others = base.keys.filter((k) => k.frame !== frame);
  const here = base.keys.find((k) => k.frame === frame);
  const before = base.keys.filter((k) => k.frame < frame).at(-1);
  const key = here ? { ...here, value: wanted } : newKey(frame, wanted, before?.ease ?? base.keys[0]?.ease);
  return withBase(number, { keys: [...others, key].sort((a, b) => a.frame - b.frame) });
}
