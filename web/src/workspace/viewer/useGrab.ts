import { type RefObject, useCallback, useRef, useState } from "react";
import { dragFrom } from "~/ui/drag";
import type { Point } from "~/workspace/geometry";
import { type Mapping, toPicture } from "~/workspace/viewer/viewport";

/** The keys that are down while something is moved. */
export type Keys = Pick<PointerEvent, "shiftKey" | "ctrlKey" | "metaKey">;

/** Something taken hold of, by the pointer or by the arrow keys; places are picture pixels. */
export interface Hold {
  from: Point;
  move: (at: Point, keys: Keys) => void;
  /** Null: it was broken off, or never moved. */
  end: (at: Point | null) => unknown;
}

/** Moving of things on the picture: in picture pixels, with Alt for the last tenth, and nothing before 3 px. */
export interface Grab {
  svg: RefObject<SVGSVGElement | null>;
  /** Where something is held right now, for the loupe. */
  held: Point | null;
  local: (e: { clientX: number; clientY: number }) => Point;
  /** The same hold, told to the loupe. */
  watched: (hold: Hold) => Hold;
  grab: (e: React.PointerEvent<SVGElement>, hold: Hold) => void;
}

export function useGrab(mapping: Mapping): Grab {
  const svg = useRef<SVGSVGElement>(null);
  const [held, setHeld] = useState<Point | null>(null);
  const local = (e: { clientX: number; clientY: number }): Point => {
    const box = svg.current!.getBoundingClientRect();
    return toPicture(mapping, { x: e.clientX - box.left, y: e.clientY - box.top });
  };
  const watched = useCallback(
    (hold: Hold): Hold => ({
      from: hold.from,
      move: (at, keys) => {
        setHeld(at);
        hold.move(at, keys);
      },
      end: (at) => {
        setHeld(null);
        return hold.end(at);
      },
    }),
    [],
  );
  const grab: Grab["grab"] = (e, hold) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    e.preventDefault();
    (document.activeElement as HTMLElement | null)?.blur();
    const { from, move, end } = watched(hold);
    const start = local(e);
    let at: Point | null = null;
    dragFrom(
      e,
      (m) => {
        const now = local(m);
        if (!at && Math.hypot(now.x - start.x, now.y - start.y) * mapping.zoom < 3) return;
        const slow = m.altKey ? 0.1 : 1;
        at = { x: from.x + (now.x - start.x) * slow, y: from.y + (now.y - start.y) * slow };
        move(at, m);
      },
      (letGo) => void end(letGo ? at : null),
    );
  };
  return { svg, held, local, watched, grab };
}
