import { useRef, useState } from "react";
import type { CurvePoint } from "~/api/client";
import { dragFrom } from "~/ui/drag";

const SIDE = 150;
/** Room round the curve, so that points at its ends are whole. */
const RIM = 7;

interface Props {
  label: string;
  points: CurvePoint[];
  colour?: string;
  onChange: (points: CurvePoint[]) => void;
}

/** A tone curve drawn by hand: drag its points, click the line for another one, double-click one to take it away. */
export function CurveBox({ label, points, colour = "var(--ink)", onChange }: Props) {
  const svg = useRef<SVGSVGElement>(null);
  const [live, setLive] = useState<CurvePoint[] | null>(null);
  const shown = [...(live ?? points)].sort((a, b) => a.x - b.x);
  const at = (e: { clientX: number; clientY: number }): CurvePoint => {
    const box = svg.current!.getBoundingClientRect();
    const part = (v: number) => Math.min(1, Math.max(0, Number(v.toFixed(3))));
    const [x, y] = [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
    const inside = (v: number) => part((v * (SIDE + 2 * RIM) - RIM) / SIDE);
    return { x: inside(x), y: Number((1 - inside(y)).toFixed(3)) };
  };
  const drag = (e: React.PointerEvent<SVGElement>, from: CurvePoint[], k: number) => {
    e.stopPropagation();
    let next = from;
    dragFrom(
      e,
      (m) => {
        const p = at(m);
        const low = k > 0 ? from[k - 1]!.x + 0.01 : 0;
        const high = k < from.length - 1 ? from[k + 1]!.x - 0.01 : 1;
        next = from.map((old, i) => (i === k ? { x: Math.min(high, Math.max(low, p.x)), y: p.y } : old));
        setLive(next);
      },
      (letGo) => {
        setLive(null);
        if (letGo && next !== from) onChange(next);
      },
    );
  };
  const line = path(shown);
  return (
    <svg
      ref={svg}
      role="group"
      aria-label={`Curve ${label}`}
      viewBox={`${-RIM} ${-RIM} ${SIDE + 2 * RIM} ${SIDE + 2 * RIM}`}
      className="aspect-square w-full touch-none rounded-md border border-line bg-raise"
      onPointerDown={(e) => {
        if (e.button !== 0) return;
        const p = at(e);
        const next = [...shown, p].sort((a, b) => a.x - b.x);
        drag(e, next, next.indexOf(p));
        setLive(next);
      }}
    >
      {[1, 2, 3].map((k) => (
        <path
          key={k}
          d={`M${(SIDE * k) / 4} 0V${SIDE}M0 ${(SIDE * k) / 4}H${SIDE}`}
          stroke="var(--line)"
          strokeWidth="0.7"
        />
      ))}
      <rect width={SIDE} height={SIDE} fill="none" stroke="var(--line)" strokeWidth="0.7" />
      <path d={`M0 ${SIDE}L${SIDE} 0`} stroke="var(--line)" strokeDasharray="3 3" />
      <path d={line} fill="none" stroke={colour} strokeWidth="1.8" />
      {shown.map((p, k) => (
        <circle
          key={k}
          cx={p.x * SIDE}
          cy={(1 - p.y) * SIDE}
          r="4.5"
          fill="var(--saffron-bar)"
          stroke="var(--raise)"
          strokeWidth="1.5"
          tabIndex={0}
          aria-label={`Point ${k + 1} of ${label}`}
          className="cursor-move"
          onPointerDown={(e) => drag(e, shown, k)}
          onDoubleClick={() => shown.length > 2 && onChange(shown.filter((_, i) => i !== k))}
          onKeyDown={(e) => {
            const step = e.shiftKey ? 0.05 : 0.01;
            const by = {
              ArrowLeft: [-step, 0],
              ArrowRight: [step, 0],
              ArrowUp: [0, step],
              ArrowDown: [0, -step],
            }[e.key];
            if (e.key === "Delete" && shown.length > 2) onChange(shown.filter((_, i) => i !== k));
            else if (by) {
              const clamp = (v: number) => Math.min(1, Math.max(0, Number(v.toFixed(3))));
              onChange(
                shown.map((q, i) => (i === k ? { x: clamp(q.x + by[0]!), y: clamp(q.y + by[1]!) } : q)),
              );
            } else return;
            e.preventDefault();
            e.stopPropagation();
          }}
        />
      ))}
    </svg>
  );
}

/** The monotone cubic through the points, as the core draws it (Fritsch and Carlson's slopes, harmonic mean). */
function path(points: CurvePoint[]): string {
  const n = points.length;
  const slope = points.slice(1).map((p, k) => (p.y - points[k]!.y) / Math.max(p.x - points[k]!.x, 1e-6));
  const tangent = points.map((_, k) => {
    if (k === 0) return slope[0] ?? 0;
    if (k === n - 1) return slope[n - 2] ?? 0;
    const [a, b] = [slope[k - 1]!, slope[k]!];
    if (a * b <= 0) return 0;
    const [h0, h1] = [points[k]!.x - points[k - 1]!.x, points[k + 1]!.x - points[k]!.x];
    const [w1, w2] = [2 * h1 + h0, h1 + 2 * h0];
    return (w1 + w2) / (w1 / a + w2 / b);
  });
  const sx = (v: number) => (v * SIDE).toFixed(1);
  const sy = (v: number) => ((1 - v) * SIDE).toFixed(1);
  let out = `M0 ${sy(points[0]!.y)}L${sx(points[0]!.x)} ${sy(points[0]!.y)}`;
  for (let k = 0; k + 1 < n; k++) {
    const [a, b] = [points[k]!, points[k + 1]!];
    const third = (b.x - a.x) / 3;
    out += `C${sx(a.x + third)} ${sy(a.y + tangent[k]! * third)} ${sx(b.x - third)} ${sy(b.y - tangent[k + 1]! * third)} ${sx(b.x)} ${sy(b.y)}`;
  }
  return `${out}L${SIDE} ${sy(points[n - 1]!.y)}`;
}
