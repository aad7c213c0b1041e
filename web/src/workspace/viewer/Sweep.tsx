import { useEffect, useState } from "react";
import { dragFrom } from "~/ui/drag";
import type { Point } from "~/workspace/geometry";

export interface Swept {
  low: Point;
  high: Point;
}

/** Whether Shift is held. */
function useShift(): boolean {
  const [held, setHeld] = useState(false);
  useEffect(() => {
    const key = (e: KeyboardEvent) => setHeld(e.shiftKey);
    const away = () => setHeld(false);
    addEventListener("keydown", key);
    addEventListener("keyup", key);
    addEventListener("blur", away);
    return () => {
      removeEventListener("keydown", key);
      removeEventListener("keyup", key);
      removeEventListener("blur", away);
    };
  }, []);
  return held;
}

/** With Shift held, a box is drawn over the picture; `end` hears of it in pixels of the svg that this lies in, below what else it holds. */
export function Sweep({ end }: { end: (box: Swept) => void }) {
  const shift = useShift();
  const [box, setBox] = useState<Swept | null>(null);
  if (!shift && !box) return null;
  const press = (e: React.PointerEvent<SVGRectElement>) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    const rim = e.currentTarget.getBoundingClientRect();
    const local = (m: { clientX: number; clientY: number }) => ({
      x: m.clientX - rim.left,
      y: m.clientY - rim.top,
    });
    const from = local(e);
    let swept: Swept | null = null;
    dragFrom(
      e,
      (m) => {
        const to = local(m);
        swept = {
          low: { x: Math.min(from.x, to.x), y: Math.min(from.y, to.y) },
          high: { x: Math.max(from.x, to.x), y: Math.max(from.y, to.y) },
        };
        setBox(swept);
      },
      (letGo) => {
        setBox(null);
        if (letGo && swept) end(swept);
      },
    );
  };
  return (
    <>
      <rect
        width="100%"
        height="100%"
        fill="transparent"
        className="pointer-events-auto cursor-crosshair"
        data-testid="sweep"
        onPointerDown={press}
      />
      {box && (
        <rect
          x={box.low.x}
          y={box.low.y}
          width={box.high.x - box.low.x}
          height={box.high.y - box.low.y}
          fill="var(--spark)"
          fillOpacity="0.14"
          stroke="var(--spark)"
          strokeDasharray="5 4"
        />
      )}
    </>
  );
}
