import { useState } from "react";
import { useApart } from "~/workspace/apart";
import type { Point } from "~/workspace/geometry";
import { act, useWorkspace } from "~/workspace/store";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** The spot at which two motions are set against each other: a ring where the chosen one takes it, a cross for the other. */
export function ApartSpot({ mapping }: { mapping: Mapping }) {
  const found = useApart();
  const frame = useWorkspace((s) => s.frame);
  const apart = useWorkspace((s) => s.apart);
  const hand = useGrab(mapping);
  const [pulled, setPulled] = useState<Point | null>(null);
  const ways = found?.told?.paths;
  if (!found || !ways || !apart) return null;
  const at = (k: number): Point => {
    const [x, y] = ways[k]![Math.min(frame, ways[k]!.length - 1)]!;
    return { x, y };
  };
  const first = pulled ?? at(0);
  const ring = toScreen(mapping, first);
  const cross = toScreen(mapping, at(1));
  const put = (to: Point | null) => {
    setPulled(null);
    if (to) act({ do: "apart", apart: { motion: apart.motion, at: { ...to, frame } } });
  };
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full" data-testid="apart-spot">
      {!pulled && (
        <>
          <line x1={ring.x} y1={ring.y} x2={cross.x} y2={cross.y} stroke="#f1eee7" strokeDasharray="2 3" />
          <path
            d={`M${cross.x - 7} ${cross.y - 7}l14 14m0 -14l-14 14`}
            stroke="#0b0d0e"
            strokeOpacity="0.7"
            strokeWidth="4.5"
          />
          <path
            d={`M${cross.x - 7} ${cross.y - 7}l14 14m0 -14l-14 14`}
            stroke="var(--glow)"
            strokeWidth="2"
          />
        </>
      )}
      <circle
        cx={ring.x}
        cy={ring.y}
        r="10"
        fill="none"
        stroke="#0b0d0e"
        strokeOpacity="0.7"
        strokeWidth="5"
      />
      <circle
        cx={ring.x}
        cy={ring.y}
        r="10"
        fill="transparent"
        stroke="var(--saffron-bar)"
        strokeWidth="2.5"
        className="pointer-events-auto cursor-move"
        tabIndex={0}
        role="button"
        aria-label="Spot at which the motions are set against each other"
        onKeyDown={(e) => {
          const by = e.shiftKey ? 10 : e.altKey ? 0.1 : 1;
          const ways: Record<string, [number, number]> = {
            ArrowLeft: [-by, 0],
            ArrowRight: [by, 0],
            ArrowUp: [0, -by],
            ArrowDown: [0, by],
          };
          const way = ways[e.key];
          if (!way) return;
          e.preventDefault();
          e.stopPropagation();
          put({ x: first.x + way[0], y: first.y + way[1] });
        }}
        onPointerDown={(e) => hand.grab(e, first, setPulled, put)}
      />
    </svg>
  );
}
