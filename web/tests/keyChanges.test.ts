import { expect, test } from "vitest";
import type { Key, Num } from "~/api/client";
import { keysOf, newKey } from "~/workspace/geometry";
import { keysAt, pasted, replacedKeys, stretched } from "~/workspace/timestrip/keyChanges";
import { keyOfPath, type Moving } from "~/workspace/timestrip/keyed";

const number = (name: string, ...keys: [number, number][]): Moving => ({
  path: [name],
  label: name,
  value: { keys: keys.map(([frame, value]) => newKey(frame, value)) } as Num,
});
const x = number("x", [0, 10], [10, 30], [20, 20]);
const y = number("y", [5, -4], [10, 6]);
const at = (n: Moving, ...frames: number[]) => frames.map((frame) => ({ path: keyOfPath(n.path), frame }));
const told = (value: Num | undefined) => keysOf(value!).map((k: Key) => [k.frame, k.value]);

test("keys are found on the spots of their own numbers only", () => {
  const found = keysAt([x, y], [...at(x, 10), ...at(y, 5)]);
  expect(found.map((f) => [f.path, f.key.frame])).toEqual([
    [keyOfPath(x.path), 10],
    [keyOfPath(y.path), 5],
  ]);
});

test("only the picked keys change, and other numbers are left alone", () => {
  const changes = replacedKeys([x, y], at(x, 10), (k) => ({ ...k, frame: 12, value: 5 }), 0, 30);
  expect([...changes.keys()]).toEqual([keyOfPath(x.path)]);
  expect(told(changes.get(keyOfPath(x.path)))).toEqual([
    [0, 10],
    [12, 5],
    [20, 20],
  ]);
});

test("a number that loses its last key stands still as it is at the playhead", () => {
  const changes = replacedKeys([y], at(y, 5, 10), () => null, 10, 30);
  expect(changes.get(keyOfPath(y.path))).toBe(6);
});

test("keys stretch in time from the first on, and in value from the lowest of each number", () => {
  const keys = keysAt([x, y], [...at(x, 10, 20), ...at(y, 5, 10)]);
  const later = stretched(keys, "time", 2);
  expect(keys.map((k) => later(k.key, k.path).frame)).toEqual([15, 35, 5, 15]);
  const higher = stretched(keys, "value", 0.5);
  expect(keys.map((k) => higher(k.key, k.path).value)).toEqual([25, 20, -4, 1]);
});

test("what was copied lands at the playhead, each in its own number", () => {
  const copied = { keys: keysAt([x, y], [...at(x, 10), ...at(y, 5)]), first: 5 };
  const { changes, spots } = pasted([x, y], copied, 22, 40);
  expect(told(changes.get(keyOfPath(x.path)))).toContainEqual([27, 30]);
  expect(told(changes.get(keyOfPath(y.path)))).toContainEqual([22, -4]);
  expect(spots).toEqual([...at(x, 27), ...at(y, 22)]);
});

test("what was copied of one number goes into the only one that is shown", () => {
  const copied = { keys: keysAt([x], at(x, 0)), first: 0 };
  expect(told(pasted([y], copied, 8, 40).changes.get(keyOfPath(y.path)))).toContainEqual([8, 10]);
  expect(pasted([y, number("z", [1, 1])], copied, 8, 40).changes.size).toBe(0);
});
