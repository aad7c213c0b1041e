import type { Key, Num, Shot } from "~/api/client";
import { keysOf, withBase } from "~/workspace/geometry";

/** A number somewhere in a layer or treatment: the way to it, what it is called, and its value. */
export interface Moving {
  path: (string | number)[];
  label: string;
  value: Num;
}

const isNumber = (v: unknown): v is Exclude<Num, number> =>
  typeof v === "object" && v !== null && ("wobble" in v ? "base" in v : "keys" in v && firstIsKey(v));

function firstIsKey(v: object): boolean {
  const keys = (v as { keys?: unknown }).keys;
  return Array.isArray(keys) && keys.length > 0 && typeof (keys[0] as Key).value === "number";
}

const said = (word: string) => word.replaceAll("_", " ");

/** Every number of a thing that has keys, in the order in which they are found. */
export function movingOf(thing: unknown, path: (string | number)[] = [], named = ""): Moving[] {
  if (isNumber(thing)) {
    const field = said(String(path.at(-1)));
    return keysOf(thing).length ? [{ path, label: named ? `${named}: ${field}` : field, value: thing }] : [];
  }
  if (Array.isArray(thing))
    return thing.flatMap((item, k) =>
      movingOf(item, [...path, k], (item as { name?: string } | null)?.name ?? named),
    );
  if (typeof thing !== "object" || thing === null) return [];
  return Object.entries(thing).flatMap(([key, value]) => movingOf(value, [...path, key], named));
}

export const keyOfPath = (path: (string | number)[]) => path.join("/");

/** The thing with other values at some of its numbers. */
export function withNumbers<T>(thing: T, changes: Map<string, Num>): T {
  const copy = structuredClone(thing);
  for (const [at, value] of changes) {
    const path = at.split("/");
    let place = copy as Record<string, unknown>;
    for (const step of path.slice(0, -1)) place = place[step] as Record<string, unknown>;
    place[path.at(-1)!] = value;
  }
  return copy;
}

/** The top-level fields of a thing that a set of numbers lies in. */
export const fieldsOf = (changes: Map<string, Num>) => [
  ...new Set([...changes.keys()].map((p) => p.split("/")[0]!)),
];

/** Keys in order, one per frame: the last one given for a frame wins. */
export function tidied(keys: Key[], frames: number): Key[] {
  const byFrame = new Map<number, Key>();
  for (const k of keys) {
    const frame = Math.min(frames - 1, Math.max(0, Math.round(k.frame)));
    byFrame.set(frame, { ...k, frame });
  }
  return [...byFrame.values()].sort((a, b) => a.frame - b.frame);
}

export const withKeys = (value: Num, keys: Key[], frames: number): Num =>
  withBase(value, { keys: tidied(keys, frames) });

/** One key of one number, as it is named while it is selected. */
export interface Spot {
  path: string;
  frame: number;
}
export const sameSpot = (a: Spot, b: Spot) => a.path === b.path && a.frame === b.frame;

/** The thing that the time strip shows keys of: the chosen layer or treatment, or the finish. */
export type Owner =
  | { list: "stack" | "plate" | "perches" | "motions" | "frames"; id: string; name: string; thing: object }
  | { list: "footage"; id: "footage"; name: string; thing: { footage: object; sound: Shot["sound"] } }
  | { list: "finish"; id: "finish"; name: string; thing: { looks: Shot["finish"] } };
