import type { PointerEvent as Press } from "react";

type Grabbed = Element & GlobalEventHandlers;

/**
 * Follow the pointer from a press until it is let go. `end` hears whether it was let go (true) or the
 * system broke the drag off (false).
 */
export function dragFrom(
  press: Press<Grabbed>,
  move: (e: PointerEvent) => void,
  end: (letGo: boolean) => void = () => undefined,
): void {
  const element = press.currentTarget;
  element.setPointerCapture(press.pointerId);
  const stop = (e: PointerEvent) => {
    element.removeEventListener("pointermove", move);
    element.removeEventListener("pointerup", stop);
    element.removeEventListener("pointercancel", stop);
    end(e.type === "pointerup");
  };
  element.addEventListener("pointermove", move);
  element.addEventListener("pointerup", stop);
  element.addEventListener("pointercancel", stop);
}
