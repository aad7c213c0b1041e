import { describe, expect, test } from "vitest";
import type { Mask, OutlinePoint } from "~/api/client";
import { apply, type Matrix } from "~/workspace/geometry";
import { chosenOutlines, type Outlined, shapeMoved } from "~/workspace/masks";
import { drawnKey, outlineAt, shapesMoved, withoutShapes } from "~/workspace/outline";

const point = (x: number, y: number): OutlinePoint => ({
  x,
  y,
  in_x: 0,
  in_y: 0,
  out_x: 2,
  out_y: 0,
  feather: 0,
});
const square = (x: number) => [point(x, 0), point(x + 10, 0), point(x + 10, 10), point(x, 10)];
const outline = (...frames: number[]) => ({ keys: frames.map((f) => drawnKey(f, square(f))) });
const mask = (id: string, ...frames: number[]) =>
  ({ kind: "outline", id, name: id, outline: outline(...frames) }) as unknown as Outlined;
const told = (o: { keys: { frame: number; points: OutlinePoint[] }[] }) =>
  o.keys.map((k) => [k.frame, k.points[0]!.x]);

describe("drawn shapes in time", () => {
  test("those picked come later together, and take the place of what lies there", () => {
    expect(told(shapesMoved(outline(0, 10, 20), [0, 10], 5))).toEqual([
      [5, 0],
      [15, 10],
      [20, 20],
    ]);
    expect(told(shapesMoved(outline(0, 10, 20), [10], 10))).toEqual([
      [0, 0],
      [20, 10],
    ]);
  });

  test("what was followed stays where it was filmed", () => {
    const mixed = { keys: [...outline(0).keys, { ...drawnKey(10, square(3)), followed: true, trust: 0.5 }] };
    expect(shapesMoved(mixed, [0, 10], 4).keys.map((k) => k.frame)).toEqual([4, 10]);
  });

  test("one shape always stays", () => {
    expect(told(withoutShapes(outline(0, 10), [10]))).toEqual([[0, 0]]);
    expect(told(withoutShapes(outline(4, 10), [4, 10]))).toEqual([[4, 4]]);
  });
});

describe("several outlines", () => {
  const graded = { kind: "graded", id: "g", name: "g" } as unknown as Mask;
  const masks: Mask[] = [mask("a", 0), graded, mask("b", 0, 10), mask("c", 0)];

  test("the chosen one and those that go along are moved, and nothing else is", () => {
    const ids = (chosen: string | null, too: string[]) => chosenOutlines(masks, chosen, too).map((m) => m.id);
    expect(ids("b", [])).toEqual(["b"]);
    expect(ids("b", ["a"])).toEqual(["a", "b"]);
    expect(ids("g", ["c"])).toEqual(["c"]);
    expect(ids(null, [])).toEqual([]);
    expect(chosenOutlines([mask("x", 0)], null, []).map((m) => m.id)).toEqual(["x"]);
  });

  test("each is moved as far as the clip shows it, whatever it rides on", () => {
    const half: Matrix = [0.5, 0, 7, 0, 0.5, -3, 0, 0, 1];
    const one = mask("b", 0, 10);
    const before = outlineAt(one.outline, 5);
    const after = shapeMoved(one, half, 5, { x: 6, y: -4 });
    after.forEach((p, k) => {
      const [was, is] = [apply(half, before[k]!), apply(half, p)];
      expect([is.x - was.x, is.y - was.y]).toEqual([6, -4]);
      // Its arms stay as long as they are.
      expect(p.out_x).toBe(2);
    });
  });
});
