import { useState } from "react";
import { dragFrom } from "~/ui/drag";
import { usePickOut } from "~/workspace/actions/mattes";
import type { Point } from "~/workspace/geometry";
import { round } from "~/workspace/patches";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const DRAGGED_PX = 8;

/** Picking something out: a click on it, with Alt on what it is not, or a loose box dragged round it. */
export function MatteTool({ mapping }: { mapping: Mapping }) {
  const pick = usePickOut();
  const { svg, local } = useGrab(mapping);
  const [box, setBox] = useState<[Point, Point] | null>(null);
  const [waits, setWaits] = useState<Point | null>(null);

  const press = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return;
    e.preventDefault();
    const from = local(e);
    const subject = !e.altKey;
    let to: Point | null = null;
    dragFrom(
      e,
      (m) => {
        const at = local(m);
        if (!to && Math.hypot(at.x - from.x, at.y - from.y) * mapping.zoom < DRAGGED_PX) return;
        to = at;
        setBox([from, at]);
      },
      (letGo) => {
        setBox(null);
        if (!letGo) return;
        setWaits(to ? null : from);
        void pick(
          to ? { box: [from, to] } : { click: { x: round(from.x), y: round(from.y), subject } },
        ).finally(() => setWaits(null));
      },
    );
  };
  const corners = box?.map((p) => toScreen(mapping, p));
  const at = waits && toScreen(mapping, waits);
  return (
    <svg
      ref={svg}
      data-testid="matte-tool"
      className="absolute inset-0 size-full cursor-crosshair touch-none"
      onPointerDown={press}
    >
      {corners && (
        <rect
          x={Math.min(corners[0]!.x, corners[1]!.x)}
          y={Math.min(corners[0]!.y, corners[1]!.y)}
          width={Math.abs(corners[1]!.x - corners[0]!.x)}
          height={Math.abs(corners[1]!.y - corners[0]!.y)}
          fill="rgb(107 70 148 / 0.15)"
          stroke="var(--plum-glow)"
          strokeWidth="1.6"
          strokeDasharray="9 4"
        />
      )}
      {at && <circle cx={at.x} cy={at.y} r="8" fill="none" stroke="#f1eee7" strokeWidth="2" />}
    </svg>
  );
}
