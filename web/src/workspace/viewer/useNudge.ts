import { useEffect, useRef } from "react";
import type { Point } from "~/workspace/geometry";
import type { Hold, Keys } from "~/workspace/viewer/useGrab";

/** How long after the last arrow key what was moved is stored: presses in a row are one step. */
const REST_MS = 350;

const WAYS: Record<string, readonly [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
};

/** How far an arrow key goes: 1, with Shift 10, with Alt a tenth; null for all other keys. */
export function arrowOf(e: Pick<React.KeyboardEvent, "key" | "shiftKey" | "altKey">): Point | null {
  const way = WAYS[e.key];
  const far = e.shiftKey ? 10 : e.altKey ? 0.1 : 1;
  return way ? { x: way[0] * far, y: way[1] * far } : null;
}

const NO_KEYS: Keys = { shiftKey: false, ctrlKey: false, metaKey: false };

/**
 * Arrow keys that move something as the pointer would: from the first press it is held, with the last one it is let
 * go. What is pressed while the step before is still being stored goes into the next one.
 */
export function useNudge(hold: (keys: Keys) => Hold | null) {
  // What is taken hold of lies where it was drawn last.
  const latest = useRef(hold);
  useEffect(() => {
    latest.current = hold;
  });
  const now = useRef<{ hold: Hold; at: Point } | null>(null);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const storing = useRef<Promise<unknown> | null>(null);
  const waiting = useRef<Point | null>(null);

  const by = (step: Point): void => {
    clearTimeout(timer.current);
    if (storing.current) {
      const sum = waiting.current ?? { x: 0, y: 0 };
      waiting.current = { x: sum.x + step.x, y: sum.y + step.y };
      return;
    }
    if (!now.current) {
      const taken = latest.current(NO_KEYS);
      if (!taken) return;
      now.current = { hold: taken, at: taken.from };
    }
    const { hold: held, at } = now.current;
    now.current.at = { x: at.x + step.x, y: at.y + step.y };
    held.move(now.current.at, NO_KEYS);
  };
  const letGo = (): void => {
    clearTimeout(timer.current);
    const held = now.current;
    if (!held) return;
    now.current = null;
    const stored = Promise.resolve(held.hold.end(held.at)).finally(() => {
      // What was stored is drawn first.
      setTimeout(() => {
        storing.current = null;
        const more = waiting.current;
        waiting.current = null;
        if (!more) return;
        by(more);
        letGo();
      }, 0);
    });
    storing.current = stored;
  };
  const rest = (): void => {
    clearTimeout(timer.current);
    if (now.current) timer.current = setTimeout(letGo, REST_MS);
  };
  useEffect(() => () => letGo(), []); // eslint-disable-line react-hooks/exhaustive-deps
  return { by, rest, letGo };
}
