import { useRef, useState } from "react";
import type { Look } from "~/api/client";
import { dragFrom } from "~/ui/drag";

type Graded = Extract<Look, { kind: "lift" }>;
type Tint = "lift_tint" | "gamma_tint" | "gain_tint" | "offset_tint";
const WHEELS: { field: Tint; label: string }[] = [
  { field: "lift_tint", label: "Shadows" },
  { field: "gamma_tint", label: "Middle tones" },
  { field: "gain_tint", label: "Lights" },
  { field: "offset_tint", label: "All of it" },
];
const NEUTRAL = "#808080";
/** Chroma (of display codes 0 to 1) at the wheel's rim. */
const RIM = 0.24;
const RADIUS = 34;

interface Chroma {
  /** Blue less brightness, to the right. */
  cb: number;
  /** Red less brightness, upwards. */
  cr: number;
}

const held = ({ cb, cr }: Chroma): Chroma => {
  const by = Math.min(1, RIM / Math.max(Math.hypot(cb, cr), 1e-9));
  return { cb: cb * by, cr: cr * by };
};

/** Where a tint lies on the wheel, by BT.709's differences of colour: as the vectors of the scopes lie. */
export function chromaOf(tint: string): Chroma {
  const [r, g, b] = [1, 3, 5].map((k) => parseInt(tint.slice(k, k + 2), 16) / 255) as [
    number,
    number,
    number,
  ];
  const y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
  return { cb: (b - y) / 1.8556, cr: (r - y) / 1.5748 };
}

export function tintOf({ cb, cr }: Chroma): string {
  const y = 0x80 / 255;
  const [r, b] = [y + 1.5748 * cr, y + 1.8556 * cb];
  const g = (y - 0.2126 * r - 0.0722 * b) / 0.7152;
  return `#${[r, g, b]
    .map((v) =>
      Math.round(255 * Math.min(1, Math.max(0, v)))
        .toString(16)
        .padStart(2, "0"),
    )
    .join("")}`;
}

/** A wheel for each tonal range: the puck's way from the middle is how much it tints, and towards what. */
export function Wheels({ look, set }: { look: Graded; set: (label: string, values: object) => void }) {
  return (
    <div className="my-1.5 grid grid-cols-4 gap-1" role="group" aria-label="Wheels">
      {WHEELS.map((w) => (
        <Wheel
          key={w.field}
          label={w.label}
          tint={look[w.field]}
          onTint={(tint) => set(`Tint of ${w.label.toLowerCase()}`, { [w.field]: tint })}
        />
      ))}
    </div>
  );
}

function Wheel({ label, tint, onTint }: { label: string; tint: string; onTint: (tint: string) => void }) {
  const disc = useRef<SVGSVGElement>(null);
  const [draft, setDraft] = useState<Chroma | null>(null);
  const at = held(draft ?? chromaOf(tint));
  const x = RADIUS + 2 + (at.cb / RIM) * RADIUS;
  const y = RADIUS + 2 - (at.cr / RIM) * RADIUS;
  const strength = Math.round((100 * Math.hypot(at.cb, at.cr)) / RIM);
  const nudge = (dx: number, dy: number, fine: boolean) => {
    const step = (fine ? 0.02 : 0.08) * RIM;
    onTint(tintOf(held({ cb: at.cb + dx * step, cr: at.cr + dy * step })));
  };
  return (
    <span className="grid justify-items-center gap-0.5">
      <svg
        ref={disc}
        viewBox={`0 0 ${2 * RADIUS + 4} ${2 * RADIUS + 4}`}
        className="w-full cursor-crosshair touch-none rounded-full outline-offset-2"
        role="slider"
        tabIndex={0}
        aria-label={`Tint of ${label.toLowerCase()}`}
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={strength}
        aria-valuetext={strength ? `${strength} % towards ${tintOf(at)}` : "none"}
        onDoubleClick={() => onTint(NEUTRAL)}
        onKeyDown={(e) => {
          const way = {
            ArrowLeft: [-1, 0],
            ArrowRight: [1, 0],
            ArrowUp: [0, 1],
            ArrowDown: [0, -1],
          }[e.key];
          if (way) nudge(way[0]!, way[1]!, e.altKey);
          else if (e.key === "Delete" || e.key === "Backspace") onTint(NEUTRAL);
          else return;
          e.preventDefault();
          e.stopPropagation();
        }}
        onPointerDown={(e) => {
          const start = { x: e.clientX, y: e.clientY, ...at };
          const wide = disc.current!.getBoundingClientRect().width / 2;
          let last = at;
          dragFrom(
            e,
            (m) => {
              // With Alt the puck goes a quarter as far.
              const by = (m.altKey ? 0.25 : 1) * (RIM / wide);
              last = held({
                cb: start.cb + (m.clientX - start.x) * by,
                cr: start.cr - (m.clientY - start.y) * by,
              });
              setDraft(last);
            },
            (letGo) => {
              setDraft(null);
              if (letGo && last !== at) onTint(tintOf(last));
            },
          );
        }}
      >
        {Array.from({ length: 24 }, (_, k) => {
          const [a, b] = [(k - 0.5) * 15, (k + 0.5) * 15].map((d) => (d * Math.PI) / 180) as [number, number];
          const middle = (k * 15 * Math.PI) / 180;
          const colour = tintOf({ cb: 0.7 * RIM * Math.cos(middle), cr: 0.7 * RIM * Math.sin(middle) });
          const to = (angle: number) =>
            `${RADIUS + 2 + RADIUS * Math.cos(angle)},${RADIUS + 2 - RADIUS * Math.sin(angle)}`;
          return (
            <path
              key={k}
              d={`M${RADIUS + 2},${RADIUS + 2} L${to(a)} L${to(b)}z`}
              fill={colour}
              stroke={colour}
            />
          );
        })}
        <circle cx={RADIUS + 2} cy={RADIUS + 2} r={RADIUS * 0.72} fill="var(--raise)" fillOpacity="0.92" />
        <path
          d={`M${RADIUS + 2},8 V${2 * RADIUS - 4} M8,${RADIUS + 2} H${2 * RADIUS - 4}`}
          stroke="var(--line)"
          strokeWidth="0.8"
        />
        <line x1={RADIUS + 2} y1={RADIUS + 2} x2={x} y2={y} stroke="var(--ink-3)" />
        <circle cx={x} cy={y} r="5" fill={tintOf(at)} stroke="var(--ink)" strokeWidth="1.4" />
      </svg>
      <span className="text-[10.5px] text-ink-2">{label}</span>
    </span>
  );
}
