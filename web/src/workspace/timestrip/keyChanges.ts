import type { Key, Num } from "~/api/client";
import { baseAt, keysOf } from "~/workspace/geometry";
import { keyOfPath, type Moving, type Spot, withKeys } from "~/workspace/timestrip/keyed";
import { rounded } from "~/workspace/timestrip/KeyParts";

/** A key and the number that it is one of. */
export interface Placed {
  path: string;
  key: Key;
}

export interface Copied {
  keys: Placed[];
  /** The first frame of any of them. */
  first: number;
}

/** New numbers by their paths. */
export type Changes = Map<string, Num>;

/** The keys of some numbers that lie on certain spots. */
export const keysAt = (numbers: readonly Moving[], spots: readonly Spot[]): Placed[] =>
  numbers.flatMap((n) => {
    const path = keyOfPath(n.path);
    const frames = spots.filter((s) => s.path === path).map((s) => s.frame);
    return keysOf(n.value)
      .filter((k) => frames.includes(k.frame))
      .map((key) => ({ path, key }));
  });

/**
 * Numbers with some of their keys replaced by changed ones, or without them (null); one that has none left stands still
 * as it is at `frame`.
 */
export function replacedKeys(
  numbers: readonly Moving[],
  spots: readonly Spot[],
  to: (key: Key, path: string) => Key | null,
  frame: number,
  frames: number,
): Changes {
  const out: Changes = new Map();
  for (const n of numbers) {
    const path = keyOfPath(n.path);
    const mine = spots.filter((s) => s.path === path).map((s) => s.frame);
    if (!mine.length) continue;
    const kept = keysOf(n.value).filter((k) => !mine.includes(k.frame));
    const moved = keysOf(n.value)
      .filter((k) => mine.includes(k.frame))
      .flatMap((k) => to(k, path) ?? []);
    if (kept.length + moved.length) out.set(path, withKeys(n.value, [...kept, ...moved], frames));
    else out.set(path, baseAt(n.value, frame));
  }
  return out;
}

/** Stretches keys by a factor: in time from the first of them on, in value from the lowest of each number up. */
export function stretched(
  keys: readonly Placed[],
  way: "time" | "value",
  by: number,
): (key: Key, path: string) => Key {
  const first = Math.min(...keys.map((k) => k.key.frame));
  const lows = new Map<string, number>();
  for (const k of keys) lows.set(k.path, Math.min(lows.get(k.path) ?? Infinity, k.key.value));
  return (key, path) => {
    if (way === "time") return { ...key, frame: Math.round(first + (key.frame - first) * by) };
    const low = lows.get(path) ?? 0;
    return {
      ...key,
      value: rounded(low + (key.value - low) * by),
      out_value: rounded(key.out_value * by),
      in_value: rounded(key.in_value * by),
    };
  };
}

/** Copied keys pasted from a frame on, and where they lie then; what was copied from one number goes into the only one shown. */
export function pasted(
  numbers: readonly Moving[],
  { keys, first }: Copied,
  frame: number,
  frames: number,
): { changes: Changes; spots: Spot[] } {
  const paths = new Set(keys.map((k) => k.path));
  const changes: Changes = new Map();
  const spots: Spot[] = [];
  for (const n of numbers) {
    const path = keyOfPath(n.path);
    const mine = keys.filter((k) => k.path === path || (paths.size === 1 && numbers.length === 1));
    if (!mine.length) continue;
    const fresh = mine.map((k) => ({ ...k.key, frame: k.key.frame - first + frame }));
    changes.set(path, withKeys(n.value, [...keysOf(n.value), ...fresh], frames));
    spots.push(...fresh.map((k) => ({ path, frame: k.frame })));
  }
  return { changes, spots };
}
