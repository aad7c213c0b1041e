import { describe, expect, test } from "vitest";
import type { Shot } from "~/api/client";
import type { Chosen } from "~/workspace/store";
import { canBeAgain, chosenOf, chosenThing, hasPlace, isThing, setOnChosen } from "~/workspace/things";

const shot = {
  motions: [{ id: "m", kind: "points", name: "Points" }],
  perches: [{ id: "p", name: "Perch", x: 4, y: 5 }],
  plate: [{ id: "s", kind: "steady", name: "Steady", x: 0, y: 0 }],
  stack: [{ id: "boat", kind: "still", name: "Boat", x: 1, y: 2 }],
  parcels: [{ id: "pack", stack: [{ id: "flag", kind: "pin", name: "Flag" }] }],
  frames: [],
} as unknown as Shot;
const layer = (id: string): Chosen => ({ kind: "layer", id });

describe("the chosen thing", () => {
  test("is found in its own list, in parcels too", () => {
    expect(chosenOf(shot, layer("flag"), "layer")?.name).toBe("Flag");
    expect(chosenOf(shot, layer("flag"), "motion")).toBeNull();
    expect(chosenThing(shot, { kind: "plate", id: "s" })?.name).toBe("Steady");
    expect(chosenThing(shot, layer("gone"))).toBeNull();
    expect(chosenThing(shot, { kind: "finish" })).toBeNull();
  });

  test("is changed where it lies, guarded by its id", () => {
    const steps = setOnChosen(shot, { kind: "layer", id: "flag" }, { name: "Banner" });
    expect(steps.map((s) => s.path)).toEqual(["/parcels/0/stack/0/id", "/parcels/0/stack/0/name"]);
  });

  test("tells what can be done with it", () => {
    expect(isThing({ kind: "none" })).toBe(false);
    expect(canBeAgain({ kind: "motion", id: "m", point: null })).toBe(false);
    expect(canBeAgain(layer("boat"))).toBe(true);
    expect(hasPlace(chosenThing(shot, layer("boat")))).toBe(true);
    expect(hasPlace(chosenThing(shot, layer("flag")))).toBe(false);
  });
});
