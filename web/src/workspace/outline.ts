import type { OutlinePoint, Region } from "~/api/client";
import type { Point } from "~/workspace/geometry";

type Outline = Region["outline"];

const FIELDS = ["x", "y", "in_x", "in_y", "out_x", "out_y", "feather"] as const;

/** An outline's points at a frame: straight between keys, held before and after them. */
export function outlineAt(outline: Outline, frame: number): OutlinePoint[] {
  const keys = outline.keys;
  const later = keys.findIndex((k) => k.frame > frame);
  if (later === 0 || keys.length === 1) return keys[0]!.points;
  if (later < 0) return keys.at(-1)!.points;
  const [a, b] = [keys[later - 1]!, keys[later]!];
  const u = (frame - a.frame) / (b.frame - a.frame);
  return a.points.map((p, k) => {
    const q = b.points[k]!;
    const out = { ...p };
    for (const f of FIELDS) out[f] = p[f] * (1 - u) + q[f] * u;
    return out;
  });
}

/** A shape that somebody drew, on a frame. */
export const drawnKey = (frame: number, points: OutlinePoint[]) => ({
  frame,
  points,
  followed: false,
  trust: null,
});

/** The outline with its shape at a frame changed: one key stays one; keyed outlines get a key there. */
export function withOutline(outline: Outline, frame: number, points: OutlinePoint[]): Outline {
  if (outline.keys.length === 1) return { keys: [drawnKey(outline.keys[0]!.frame, points)] };
  const grown = points.length - outline.keys[0]!.points.length;
  const others = outline.keys.filter((k) => k.frame !== frame);
  // All keys need equally many points: adding or removing one starts afresh from this shape.
  if (grown !== 0) return { keys: [drawnKey(frame, points)] };
  return { keys: [...others, drawnKey(frame, points)].sort((a, b) => a.frame - b.frame) };
}

/** An outline whose drawn shapes on some frames lie so many frames later; what lay where they come to lie goes. */
export function shapesMoved(outline: Outline, picked: readonly number[], by: number): Outline {
  const moving = outline.keys.filter((k) => !k.followed && picked.includes(k.frame));
  const taken = moving.map((k) => k.frame + by);
  const rest = outline.keys.filter((k) => !moving.includes(k) && !taken.includes(k.frame));
  const moved = moving.map((k) => ({ ...k, frame: k.frame + by }));
  return { keys: [...rest, ...moved].sort((a, b) => a.frame - b.frame) };
}

/** An outline without its drawn shapes on some frames; one shape always stays. */
export function withoutShapes(outline: Outline, picked: readonly number[]): Outline {
  const rest = outline.keys.filter((k) => k.followed || !picked.includes(k.frame));
  return rest.length ? { keys: rest } : { keys: [outline.keys[0]!] };
}

/** SVG path data of an outline, its points brought to the screen by `show`. */
export function pathOf(points: OutlinePoint[], show: (p: Point) => Point): string {
  const put = (p: Point) => {
    const s = show(p);
    return `${s.x.toFixed(1)},${s.y.toFixed(1)}`;
  };
  const parts = [`M${put(points[0]!)}`];
  points.forEach((p, k) => {
    const q = points[(k + 1) % points.length]!;
    parts.push(
      `C${put({ x: p.x + p.out_x, y: p.y + p.out_y })} ${put({ x: q.x + q.in_x, y: q.y + q.in_y })} ${put(q)}`,
    );
  });
  return `${parts.join(" ")}Z`;
}
