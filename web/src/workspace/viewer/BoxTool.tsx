import { type ReactNode, useState } from "react";
import { dragFrom } from "~/ui/drag";
import type { Point } from "~/workspace/geometry";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const DRAGGED_PX = 8;

/** A tool over the picture that takes a click, or a box which is dragged; `onTake` gets no second corner from a click. */
export function BoxTool({
  mapping,
  name,
  loose = false,
  onTake,
  children,
}: {
  mapping: Mapping;
  name: string;
  /** Whether the box is only roughly round something. */
  loose?: boolean;
  onTake: (from: Point, to: Point | null, keys: { alt: boolean; shift: boolean }) => void;
  children?: ReactNode;
}) {
  const { svg, local } = useGrab(mapping);
  const [box, setBox] = useState<[Point, Point] | null>(null);

  const press = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return;
    e.preventDefault();
    const from = local(e);
    const keys = { alt: e.altKey, shift: e.shiftKey };
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
        if (letGo) onTake(from, to, keys);
      },
    );
  };
  const [a, b] = (box ?? []).map((p) => toScreen(mapping, p));
  return (
    <svg
      ref={svg}
      data-testid={name}
      className="absolute inset-0 size-full cursor-crosshair touch-none"
      onPointerDown={press}
    >
      {a && b && (
        <rect
          x={Math.min(a.x, b.x)}
          y={Math.min(a.y, b.y)}
          width={Math.abs(a.x - b.x)}
          height={Math.abs(a.y - b.y)}
          fill="rgb(107 70 148 / 0.18)"
          stroke="var(--plum-glow)"
          strokeWidth="1.6"
          strokeDasharray={loose ? "9 4" : undefined}
        />
      )}
      {children}
    </svg>
  );
}
