import { act, cleanup, fireEvent, render, screen } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import type { JsonSchema } from "~/api/client";
import { complain, mention, Notices, useNotices } from "~/ui/Notices";
import { NumberBox } from "~/ui/NumberBox";
import { Slider } from "~/ui/Slider";
import { SchemaForm } from "~/workspace/details/SchemaForm";

beforeEach(() => {
  Element.prototype.setPointerCapture = () => undefined;
});
afterEach(cleanup);

describe("a slider", () => {
  test("steps by keys, and commits what it previews", async () => {
    globalThis.ResizeObserver ??= class {
      observe() {}
      unobserve() {}
      disconnect() {}
    };
    const onPreview = vi.fn();
    const onCommit = vi.fn();
    render(<Slider label="Gain" value={4} low={1} high={32} {...{ onPreview, onCommit }} />);
    screen.getByRole("slider", { name: "Gain" }).focus();
    await userEvent.setup().keyboard("{ArrowRight}{End}");
    expect(onPreview.mock.calls).toEqual([[5], [32]]);
    expect(onCommit.mock.calls).toEqual([[5], [32]]);
  });
});

describe("a number", () => {
  const box = (onCommit = vi.fn(), onPreview = vi.fn()) => {
    render(
      <NumberBox label="Size" value={40} low={0} high={100} step={1} unit="%" {...{ onCommit, onPreview }} />,
    );
    return { input: screen.getByRole<HTMLInputElement>("textbox", { name: "Size" }), onCommit, onPreview };
  };

  test.each([
    ["62", 62],
    ["62,5 %", 62.5],
    ["1000", 100],
    ["-3", 0],
  ])("typed as %s becomes %d", async (text, value) => {
    const { input, onCommit } = box();
    const user = userEvent.setup();
    input.focus();
    await user.clear(input);
    await user.type(input, `${text}{Enter}`);
    expect(onCommit.mock.calls).toEqual([[value]]);
  });

  test("nought is said in words until one types", () => {
    render(
      <NumberBox
        label="Most"
        value={0}
        low={0}
        high={9}
        step={1}
        unit="MB"
        nought="no limit"
        onCommit={vi.fn()}
      />,
    );
    const input = screen.getByRole<HTMLInputElement>("textbox", { name: "Most" });
    expect(input.value).toBe("no limit");
    act(() => input.focus());
    expect(input.value).toBe("0");
  });

  test.each(["", "much", "40"])("typed as %j changes nothing", async (text) => {
    const { input, onCommit } = box();
    const user = userEvent.setup();
    input.focus();
    await user.clear(input);
    if (text) await user.type(input, text);
    fireEvent.blur(input);
    expect(onCommit).not.toHaveBeenCalled();
    expect(input.value).toBe("40 %");
  });

  test("is stepped by arrow keys, with Shift by ten", () => {
    const { input, onCommit } = box();
    fireEvent.keyDown(input, { key: "ArrowUp" });
    fireEvent.keyDown(input, { key: "ArrowDown", shiftKey: true });
    expect(onCommit.mock.calls).toEqual([[41], [30]]);
  });

  test("is dragged sideways: shown on the way, stored when let go", () => {
    const { input, onCommit, onPreview } = box();
    fireEvent.pointerDown(input, { clientX: 100, button: 0 });
    fireEvent.pointerMove(input, { clientX: 107 });
    fireEvent.pointerMove(input, { clientX: 300 });
    expect(onPreview.mock.calls).toEqual([[47], [100]]);
    expect(input.value).toBe("100 %");
    expect(onCommit).not.toHaveBeenCalled();
    fireEvent.pointerUp(input, { clientX: 300 });
    expect(onCommit.mock.calls).toEqual([[100]]);
  });
});

describe("notices", () => {
  beforeEach(() => {
    vi.useFakeTimers();
    useNotices.setState({ list: [] });
    render(<Notices />);
  });
  afterEach(() => vi.useRealTimers());
  const texts = () => useNotices.getState().list.map((n) => n.text);
  const wait = (ms: number) => act(() => vi.advanceTimersByTimeAsync(ms));

  test("in passing go soon, what went wrong stays longer, and the same is said once", async () => {
    act(() => {
      mention("Stored.");
      complain("No room.");
      complain("No room.");
    });
    expect(texts()).toEqual(["Stored.", "No room."]);
    await wait(6000);
    expect(texts()).toEqual(["No room."]);
    await wait(9000);
    expect(texts()).toEqual([]);
  });

  test("stay while the keyboard is on them, and can be put away", async () => {
    act(() => complain("No room."));
    const away = screen.getByRole("button", { name: "Dismiss" });
    act(() => away.focus());
    await wait(60_000);
    expect(texts()).toEqual(["No room."]);
    fireEvent.click(away);
    expect(texts()).toEqual([]);
  });

  test("offer what can be done about it", () => {
    const run = vi.fn();
    act(() => complain("It is gone.", { label: "Bring it back", run }));
    fireEvent.click(screen.getByRole("button", { name: "Bring it back" }));
    expect(run).toHaveBeenCalledTimes(1);
    expect(texts()).toEqual([]);
  });
});

describe("a form from a schema", () => {
  const number = {
    control: "number",
    help: "",
    group: "Looks",
    default: 0,
    low: 0,
    high: 9,
    step: 1,
  } as const;
  const schema: JsonSchema = {
    properties: {
      soft: { "x-plonket": { ...number, label: "Softness", unit: "px" } },
      how: {
        "x-plonket": { ...number, control: "choice", label: "How", names: { wide: "Wide", even: "Even" } },
      },
      spread: { "x-plonket": { ...number, label: "Spread", when: { how: ["wide"] } } },
      elsewhere: { "x-plonket": { ...number, label: "Elsewhere", group: "Time" } },
      within: {},
    },
  };
  const rows = (values: Record<string, unknown>, onChange = vi.fn()) => {
    render(<SchemaForm schema={schema} groups={["Looks"]} values={values} onChange={onChange} bare />);
    return onChange;
  };

  test("shows what its groups hold, and what means something as it is set", () => {
    rows({ soft: 3, how: "even", spread: 1, elsewhere: 2, within: 1 });
    expect(screen.queryByText("Softness")).not.toBeNull();
    for (const gone of ["Spread", "Elsewhere"]) expect(screen.queryByText(gone)).toBeNull();
    cleanup();
    rows({ soft: 3, how: "wide", spread: 1 });
    expect(screen.queryByText("Spread")).not.toBeNull();
  });

  test("leaves out what a thing does not have", () => {
    rows({ how: "even" });
    expect(screen.queryByText("Softness")).toBeNull();
  });

  test("says which field was changed, and to what", () => {
    const onChange = rows({ soft: 3, how: "even" });
    fireEvent.keyDown(screen.getByRole("textbox", { name: /^Softness/ }), { key: "ArrowUp" });
    expect(onChange).toHaveBeenCalledWith("soft", 4, "Softness");
  });
});
