import { describe, expect, test } from "vitest";
import { type Action, outlining, type Shown, useWorkspace, viewOf } from "~/workspace/store";

/** The store after some actions, from its beginning. */
function after(...actions: Action[]) {
  const { act } = useWorkspace.getState();
  act({ do: "reset" });
  actions.forEach(act);
  return useWorkspace.getState();
}

describe("choosing something else", () => {
  const chosen = { kind: "layer", id: "boat" } as const;

  test("puts tools and picks away", () => {
    const state = after(
      { do: "tool", tool: { kind: "plonk", what: "a", as: "pin" } },
      { do: "pick-detail", id: "7" },
      { do: "mask", id: "m" },
      { do: "look", id: "l" },
      { do: "choose", chosen },
    );
    expect(state).toMatchObject({
      chosen,
      tool: { kind: "handle" },
      picked: [],
      mask: null,
      look: null,
      lookMasks: false,
    });
  });

  test("leaves the view that is looked at, but nothing of what was chosen", () => {
    const kept: Shown[] = [{ kind: "matte" }, { kind: "plate" }, { kind: "held", motion: "m" }];
    for (const shown of kept)
      expect(after({ do: "show", shown }, { do: "choose", chosen }).shown).toEqual(shown);
    const gone: Shown[] = [
      { kind: "alone", layer: "l", over: "checker" },
      { kind: "half", clean: "c" },
    ];
    for (const shown of gone)
      expect(after({ do: "show", shown }, { do: "choose", chosen }).shown).toEqual({ kind: "final" });
  });
});

describe("several masks", () => {
  const mask = (id: string, add?: boolean): Action => ({ do: "mask", id, add });
  const told = (...actions: Action[]) => {
    const { mask: first, masksToo } = after(...actions);
    return [first, ...masksToo];
  };

  test("are picked one beside another, and let go one by one", () => {
    expect(told(mask("a", true))).toEqual(["a"]);
    expect(told(mask("a"), mask("b", true), mask("c", true))).toEqual(["a", "b", "c"]);
    expect(told(mask("a"), mask("b", true), mask("b", true))).toEqual(["a"]);
    expect(told(mask("a"), mask("b", true), mask("a", true))).toEqual(["b"]);
    expect(told(mask("a"), mask("a", true))).toEqual([null]);
  });

  test("another choice ends it", () => {
    expect(told(mask("a"), mask("b", true), mask("c"))).toEqual(["c"]);
    expect(told(mask("a"), mask("b", true), { do: "choose", chosen: { kind: "none" } })).toEqual([null]);
    expect(told(mask("a"), mask("b", true), { do: "look", id: "l" })).toEqual([null]);
  });
});

describe("ways of looking", () => {
  test("what is held, alone or half shown is the final picture", () => {
    expect(viewOf({ kind: "held", motion: "m" })).toBe("final");
    expect(viewOf({ kind: "alone", layer: "l", over: "checker" })).toBe("final");
    expect(viewOf({ kind: "matte" })).toBe("matte");
  });

  test("a tool in hand ends holding still, and no other way of looking", () => {
    const tool: Action = { do: "tool", tool: outlining() };
    expect(after({ do: "show", shown: { kind: "held", motion: "m" } }, tool).shown).toEqual({
      kind: "final",
    });
    expect(after({ do: "show", shown: { kind: "matte" } }, tool).shown).toEqual({ kind: "matte" });
  });

  test("whatever is looked at can be compared", () => {
    const how: Action = { do: "compare", with: { how: "difference", other: { kind: "plate" } } };
    const state = after(how, { do: "show", shown: { kind: "matte" } }, { do: "compare", with: { gain: 9 } });
    expect(state.compare).toEqual({ other: { kind: "plate" }, how: "difference", at: 0.5, gain: 9 });
    expect(state.shown).toEqual({ kind: "matte" });
    expect(after(how, { do: "compare", with: null }).compare).toBeNull();
    expect(after({ do: "compare", with: { how: "beside" } }).compare?.other).toEqual({ kind: "untouched" });
  });
});

test("an outline is of a surface to follow unless said otherwise", () => {
  expect(outlining()).toEqual({ kind: "outline", for: "motion", use: true, shape: "free" });
  expect(outlining({ for: "mask", shape: "ellipse" })).toMatchObject({
    for: "mask",
    shape: "ellipse",
    use: true,
  });
});

describe("details of a room", () => {
  const pick = (id: string | null, add?: boolean): Action => ({ do: "pick-detail", id, add });

  test("are picked one by one or together", () => {
    expect(after(pick("1"), pick("2")).picked).toEqual(["2"]);
    expect(after(pick("1"), pick("2", true)).picked).toEqual(["1", "2"]);
    expect(after(pick("1"), pick("2", true), pick("1", true)).picked).toEqual(["2"]);
    expect(after(pick("1"), pick(null)).picked).toEqual([]);
  });

  test("that are swept come to what is picked, each once", () => {
    const state = after(
      pick("7"),
      { do: "pick-details", ids: ["3", "7", "9"] },
      { do: "pick-details", ids: [] },
    );
    expect(state.picked).toEqual(["7", "3", "9"]);
  });
});

test("another frame or shot leaves nothing behind", () => {
  expect(after({ do: "loupe", at: { x: 4, y: 5 } }, { do: "frame", frame: 9 }).loupe).toBeNull();
  const fresh = { ...after() };
  const used = after(
    { do: "frame", frame: 12 },
    { do: "curves", on: true },
    { do: "room", show: { boxes: true } },
    { do: "open", what: "deliver", on: true },
    { do: "show", shown: { kind: "matte" } },
    { do: "reset" },
  );
  expect(used).toEqual(fresh);
});
