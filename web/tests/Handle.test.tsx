import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Point } from "~/workspace/geometry";
import { Handle } from "~/workspace/viewer/Handle";
import { useGrab } from "~/workspace/viewer/useGrab";

/** A grip on a thing that lies somewhere, drawn on a picture that is enlarged twice. */
function Stage(more: {
  at: Point;
  moved?: (p: Point, shift: boolean) => void;
  ended?: (p: Point | null) => unknown;
  onRemove?: () => void;
  held?: (p: Point | null) => void;
}) {
  const hand = useGrab({ zoom: 2, x: 10, y: 20 });
  more.held?.(hand.held);
  return (
    <svg ref={hand.svg}>
      <Handle
        at={{ x: 2 * more.at.x + 10, y: 2 * more.at.y + 20 }}
        label="Corner"
        hand={hand}
        hold={() => ({
          from: more.at,
          move: (p, keys) => more.moved?.(p, keys.shiftKey),
          end: (p) => more.ended?.(p),
        })}
        onRemove={more.onRemove}
      />
    </svg>
  );
}

const corner = () => screen.getByRole("button", { name: "Corner" });
const press = (key: string, more: object = {}) => {
  fireEvent.keyDown(corner(), { key, ...more });
  fireEvent.keyUp(corner(), { key, ...more });
};

beforeEach(() => {
  vi.useFakeTimers();
  Element.prototype.setPointerCapture = () => undefined;
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
});

test("arrow keys move it by 1 px, with Shift by 10, with Alt by a tenth, and store once", async () => {
  const ended = vi.fn();
  const moved = vi.fn();
  render(<Stage at={{ x: 5, y: 6 }} moved={moved} ended={ended} />);
  press("ArrowRight");
  press("ArrowDown", { shiftKey: true });
  press("ArrowLeft", { altKey: true });
  expect(moved.mock.calls.map(([p]) => p)).toEqual([
    { x: 6, y: 6 },
    { x: 6, y: 16 },
    { x: 5.9, y: 16 },
  ]);
  expect(ended).not.toHaveBeenCalled();
  await vi.advanceTimersByTimeAsync(400);
  expect(ended.mock.calls).toEqual([[{ x: 5.9, y: 16 }]]);
});

test("a key that is held down is not stored before it is let go", async () => {
  const ended = vi.fn();
  render(<Stage at={{ x: 0, y: 0 }} ended={ended} />);
  fireEvent.keyDown(corner(), { key: "ArrowRight" });
  await vi.advanceTimersByTimeAsync(2000);
  expect(ended).not.toHaveBeenCalled();
  fireEvent.keyUp(corner(), { key: "ArrowRight" });
  await vi.advanceTimersByTimeAsync(400);
  expect(ended).toHaveBeenCalledTimes(1);
});

test("what is pressed while the step before is being stored goes on from what was stored", async () => {
  let stored: (() => void) | undefined;
  const ended = vi.fn(() => new Promise<void>((done) => (stored = done)));
  const { rerender } = render(<Stage at={{ x: 0, y: 0 }} ended={ended} />);
  press("ArrowRight");
  await vi.advanceTimersByTimeAsync(400);
  press("ArrowRight");
  press("ArrowRight");
  await vi.advanceTimersByTimeAsync(400);
  expect(ended).toHaveBeenCalledTimes(1);
  // The answer puts it elsewhere, as a limit might.
  rerender(<Stage at={{ x: 100, y: 0 }} ended={ended} />);
  stored!();
  await vi.advanceTimersByTimeAsync(10);
  expect(ended.mock.calls).toEqual([[{ x: 1, y: 0 }], [{ x: 102, y: 0 }]]);
});

test("leaving it stores at once, even when it goes from the page", async () => {
  const ended = vi.fn();
  const { unmount } = render(<Stage at={{ x: 0, y: 0 }} ended={ended} />);
  press("ArrowUp");
  fireEvent.blur(corner());
  expect(ended.mock.calls).toEqual([[{ x: 0, y: -1 }]]);
  await vi.advanceTimersByTimeAsync(10);
  press("ArrowUp");
  unmount();
  expect(ended).toHaveBeenCalledTimes(2);
});

test("the pointer pulls it in picture pixels, and nothing happens before 3 px", () => {
  const moved = vi.fn();
  const ended = vi.fn();
  const held = vi.fn();
  render(<Stage at={{ x: 5, y: 6 }} moved={moved} ended={ended} held={held} />);
  const drag = (type: "pointerMove" | "pointerUp", x: number, y: number, more: object = {}) =>
    fireEvent[type](corner(), { clientX: x, clientY: y, button: 0, ...more });
  fireEvent.pointerDown(corner(), { clientX: 20, clientY: 32, button: 0 });
  drag("pointerMove", 22, 32);
  expect(moved).not.toHaveBeenCalled();
  drag("pointerMove", 30, 42, { shiftKey: true });
  expect(moved).toHaveBeenLastCalledWith({ x: 10, y: 11 }, true);
  expect(held).toHaveBeenLastCalledWith({ x: 10, y: 11 });
  drag("pointerMove", 40, 32, { altKey: true });
  expect(moved).toHaveBeenLastCalledWith({ x: 6, y: 6 }, false);
  drag("pointerUp", 40, 32);
  expect(ended.mock.calls).toEqual([[{ x: 6, y: 6 }]]);
  expect(held).toHaveBeenLastCalledWith(null);
});

test("a press without a pull, or another button, moves nothing", () => {
  const ended = vi.fn();
  render(<Stage at={{ x: 5, y: 6 }} ended={ended} />);
  fireEvent.pointerDown(corner(), { clientX: 20, clientY: 32, button: 2 });
  fireEvent.pointerUp(corner(), { clientX: 20, clientY: 32, button: 2 });
  expect(ended).not.toHaveBeenCalled();
  fireEvent.pointerDown(corner(), { clientX: 20, clientY: 32, button: 0 });
  fireEvent.pointerUp(corner(), { clientX: 20, clientY: 32, button: 0 });
  expect(ended.mock.calls).toEqual([[null]]);
});

test("its keys are its own; all others are the page's", () => {
  const onRemove = vi.fn();
  const heard = vi.fn();
  window.addEventListener("keydown", heard);
  render(<Stage at={{ x: 5, y: 6 }} onRemove={onRemove} />);
  press("Delete");
  press("ArrowLeft");
  expect(onRemove).toHaveBeenCalledTimes(1);
  expect(heard).not.toHaveBeenCalled();
  press("m");
  expect(heard).toHaveBeenCalledTimes(1);
  window.removeEventListener("keydown", heard);
});
