import { type RefObject, useRef, useState } from "react";
import { dragFrom } from "~/ui/drag";
import type { Point } from "~/workspace/geometry";
import { type Mapping, toPicture } from "~/workspace/viewer/viewport";

/** Dragging of things on the picture: in picture pixels, with Alt for the last tenth, and nothing before 3 px. */
export interface Grab {
  svg: RefObject<SVGSVGElement | null>;
  /** Where something is held right now, for the loupe. */
  held: Point | null;
  local: (e: { clientX: number; clientY: number }) => Point;
  grab: (
    e: React.PointerEvent<SVGElement>,
    from: Point,
    move: (at: Point, e: PointerEvent) => void,
    end: (at: Point | null) => void | Promise<void>,
  ) => void;
}

export function useGrab(mapping: Mapping): Grab {
  const svg = useRef<SVGSVGElement>(null);
  const [held, setHeld] = useState<Point | null>(null);
  const local = (e: { clientX: number; clientY: number }): Point => {
    const box = svg.current!.getBoundingClientRect();
    return toPicture(mapping, { x: e.clientX - box.left, y: e.clientY - box.top });
  };
  const grab: Grab["grab"] = (e, from, move, end) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    e.preventDefault();
    (document.activeElement as HTMLElement | null)?.blur();
    const start = local(e);
    let at: Point | null = null;
    dragFrom(
      e,
      (m) => {
        const now = local(m);
        if (!at && Math.hypot(now.x - start.x, now.y - start.y) * mapping.zoom < 3) return;
        const slow = m.altKey ? 0.1 : 1;
        at = { x: from.x + (now.x - start.x) * slow, y: from.y + (now.y - start.y) * slow };
        setHeld(at);
        move(at, m);
      },
      (letGo) => {
        setHeld(null);
        void end(letGo ? at : null);
      },
    );
  };
  return { svg, held, local, grab };
}
