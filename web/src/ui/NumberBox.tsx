import { useRef, useState } from "react";

interface Props {
  label: string;
  value: number;
  low: number;
  high: number;
  step: number;
  unit: string;
  /** What stands in place of 0. */
  nought?: string | undefined;
  /** While dragging. */
  onPreview?: (value: number) => void;
  /** When let go, typed or stepped. */
  onCommit: (value: number) => void;
}

const places = (step: number) => (step >= 1 ? 0 : step >= 0.1 ? 1 : step >= 0.01 ? 2 : 3);

/** A number: drag sideways over it, or click and type. Arrow keys step; Shift steps ten at a time. */
export function NumberBox({ label, value, low, high, step, unit, nought, onPreview, onCommit }: Props) {
  const [typed, setTyped] = useState<string | null>(null);
  const [dragged, setDragged] = useState<number | null>(null);
  const drag = useRef<{ x: number; from: number; moved: boolean } | null>(null);
  const clamp = (v: number) => Math.min(high, Math.max(low, Number(v.toFixed(4))));
  const shown = (dragged ?? value).toFixed(places(step));

  const commitTyped = () => {
    if (typed === null) return;
    // The first number in it: units may be typed along, and what is no number changes nothing.
    const found = /[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?/i.exec(typed.replace(",", "."));
    setTyped(null);
    const v = found && Number(found[0]);
    if (v !== null && Number.isFinite(v) && clamp(v) !== value) onCommit(clamp(v));
  };

  return (
    <span className="relative block">
      <input
        aria-label={label}
        inputMode="decimal"
        spellCheck={false}
        className="num h-[24px] w-full cursor-ew-resize rounded-md border border-line bg-raise px-1.5 text-right text-ink focus:cursor-text"
        value={typed ?? (nought && !(dragged ?? value) ? nought : unit ? `${shown} ${unit}` : shown)}
        onFocus={(e) => {
          setTyped(value.toFixed(places(step)));
          requestAnimationFrame(() => e.target.select());
        }}
        onChange={(e) => setTyped(e.target.value)}
        onBlur={commitTyped}
        onKeyDown={(e) => {
          e.stopPropagation();
          if (e.key === "Enter") e.currentTarget.blur();
          else if (e.key === "Escape") {
            setTyped(null);
            requestAnimationFrame(() => (document.activeElement as HTMLElement | null)?.blur());
          } else if (e.key === "ArrowUp" || e.key === "ArrowDown") {
            e.preventDefault();
            const by = step * (e.shiftKey ? 10 : 1) * (e.key === "ArrowUp" ? 1 : -1);
            const v = clamp(value + by);
            setTyped(v.toFixed(places(step)));
            onCommit(v);
          }
        }}
        onPointerDown={(e) => {
          if (typed !== null || e.button !== 0) return;
          e.preventDefault();
          drag.current = { x: e.clientX, from: value, moved: false };
          e.currentTarget.setPointerCapture(e.pointerId);
        }}
        onPointerMove={(e) => {
          const d = drag.current;
          if (!d) return;
          const dx = e.clientX - d.x;
          if (Math.abs(dx) > 2) d.moved = true;
          if (!d.moved) return;
          const v = clamp(d.from + dx * step * (e.shiftKey ? 10 : e.altKey ? 0.1 : 1));
          setDragged(v);
          onPreview?.(v);
        }}
        onPointerUp={(e) => {
          const d = drag.current;
          drag.current = null;
          if (!d) return;
          if (d.moved && dragged !== null) onCommit(dragged);
          else e.currentTarget.focus();
          setDragged(null);
        }}
      />
    </span>
  );
}
