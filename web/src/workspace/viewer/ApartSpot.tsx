import { useState } from "react";
import { useApart } from "~/workspace/apart";
import type { Point } from "~/workspace/geometry";
import { act, useWorkspace } from "~/workspace/store";
import { Handle } from "~/workspace/viewer/Handle";
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
          <line
            x1={ring.x}
            y1={ring.y}
            x2={cross.x}
            y2={cross.y}
            stroke="var(--on-picture)"
            strokeDasharray="2 3"
          />
          <path
            d={`M${cross.x - 7} ${cross.y - 7}l14 14m0 -14l-14 14`}
            stroke="var(--under-picture)"
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
        stroke="var(--under-picture)"
        strokeOpacity="0.7"
        strokeWidth="5"
      />
      <Handle
        at={ring}
        label="Spot at which the motions are set against each other"
        hand={hand}
        hold={() => ({ from: first, move: setPulled, end: put })}
      >
        <circle cx={ring.x} cy={ring.y} r="10" fill="none" stroke="var(--saffron-bar)" strokeWidth="2.5" />
      </Handle>
    </svg>
  );
}
