import type { Key, Num } from "~/api/client";
import { EASES } from "~/workspace/details/NumberMenu";
import { baseAt, keysOf } from "~/workspace/geometry";

const NAMES: Record<Key["ease"], string> = {
  hold: "Hold",
  linear: "Linear",
  smooth: "Smooth",
  curve: "Handles",
};

/** What can be done with the chosen keys. */
export function KeyTools({
  ease,
  canPaste,
  onEase,
  onCopy,
  onPaste,
}: {
  ease: Key["ease"] | undefined;
  canPaste: boolean;
  onEase: (kind: Key["ease"]) => void;
  onCopy: () => void;
  onPaste: () => void;
}) {
  return (
    <span
      className="absolute top-0.5 left-2 flex gap-0.5 rounded-md border border-line bg-sheet p-0.5 text-[11px]"
      onPointerDown={(e) => e.stopPropagation()}
    >
      {(Object.keys(EASES) as Key["ease"][]).map((kind) => (
        <button
          key={kind}
          aria-pressed={ease === kind}
          className="rounded px-1.5 py-0.5 aria-pressed:bg-saffron-2 aria-pressed:font-semibold"
          title={`From these keys on: ${EASES[kind]}`}
          onClick={() => onEase(kind)}
        >
          {NAMES[kind]}
        </button>
      ))}
      <button className="rounded px-1.5 py-0.5" title="Copy these keys (Ctrl C)" onClick={onCopy}>
        Copy
      </button>
      <button
        className="rounded px-1.5 py-0.5 disabled:opacity-40"
        disabled={!canPaste}
        title="Paste at the playhead (Ctrl V)"
        onClick={onPaste}
      >
        Paste
      </button>
    </span>
  );
}

/** A key's handle and the line to it. */
export function Handle({
  from,
  to,
  label,
  onGrab,
}: {
  from: [number, number];
  to: [number, number];
  label: string;
  onGrab: (e: React.PointerEvent<SVGElement>) => void;
}) {
  return (
    <>
      <line x1={from[0]} y1={from[1]} x2={to[0]} y2={to[1]} stroke="var(--saffron)" strokeWidth="1.2" />
      <circle
        cx={to[0]}
        cy={to[1]}
        r="5"
        fill="var(--saffron)"
        stroke="var(--raise)"
        strokeWidth="1.5"
        className="cursor-move"
        aria-label={label}
        data-handle={label}
        onPointerDown={onGrab}
      />
    </>
  );
}

export const rounded = (v: number) => Math.round(v * 1000) / 1000;
export const short = (v: number) => (Math.abs(v) >= 100 ? v.toFixed(0) : v.toFixed(1));

/** The lowest and highest value that the curve comes to, with handles, a little widened. */
export function rangeOf(value: Num, frames: number): { low: number; high: number } {
  const keys = keysOf(value);
  const all = keys.flatMap((k) => [k.value, k.value + (k.ease === "curve" ? k.out_value : 0)]);
  for (let f = 0; f < frames; f++) all.push(baseAt(value, f));
  const [low, high] = [Math.min(...all), Math.max(...all)];
  const pad = (high - low || Math.abs(high) * 0.2 || 1) * 0.04;
  return high - low < 1e-6
    ? { low: low - 5 * pad - 0.5, high: high + 5 * pad + 0.5 }
    : { low: low - pad, high: high + pad };
}
