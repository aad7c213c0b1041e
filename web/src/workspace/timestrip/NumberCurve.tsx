import type { Key, Num } from "~/api/client";
import { baseAt, keysOf } from "~/workspace/geometry";
import { act } from "~/workspace/store";
import { keyOfPath, type Moving } from "~/workspace/timestrip/keyed";
import { Handle, short } from "~/workspace/timestrip/KeyParts";
import { type Scale, xOf } from "~/workspace/timestrip/scale";

const DASHES = ["", "6 3", "2 3", "8 3 2 3"];

interface Props {
  number: Moving;
  /** Its value as it is while something is dragged. */
  value: Num;
  row: number;
  tint: string;
  range: { low: number; high: number };
  scale: Scale;
  y: (value: number) => number;
  picked: (frame: number) => boolean;
  onKey: (e: React.PointerEvent<SVGElement>, frame: number) => void;
  onHandle: (e: React.PointerEvent<SVGElement>, at: number, side: "out" | "in") => void;
}

/** One number over time: its curve, its keys (square: hold, diamond: linear, round: eased) and the handles of chosen ones. */
export function NumberCurve({
  number: n,
  value,
  row,
  tint,
  range,
  scale,
  y: yOf,
  picked,
  onKey,
  onHandle,
}: Props) {
  const path = keyOfPath(n.path);
  const keys = keysOf(value);
  const points: string[] = [];
  for (let f = 0; f < scale.frames; f++)
    points.push(`${xOf(scale, f).toFixed(1)},${yOf(baseAt(value, f)).toFixed(1)}`);
  return (
    <g>
      <polyline
        points={points.join(" ")}
        fill="none"
        stroke={tint}
        strokeWidth="1.5"
        strokeDasharray={DASHES[row % DASHES.length]}
      />
      <text
        x={scale.width - 22}
        y={12 + 12 * row}
        fontSize="10"
        textAnchor="end"
        fill={tint}
        fontFamily="DM Mono"
      >
        {n.label} {short(range.low)} … {short(range.high)}
      </text>
      {keys.map((k, at) => {
        const on = picked(k.frame);
        const [x, y] = [xOf(scale, k.frame), yOf(k.value)];
        const next = keys[at + 1];
        const before = keys[at - 1];
        return (
          <g key={k.frame}>
            {on && k.ease === "curve" && next && (
              <Handle
                from={[x, y]}
                to={[x + k.out_time * (xOf(scale, next.frame) - x), yOf(k.value + k.out_value)]}
                label="Handle out"
                onGrab={(e) => onHandle(e, at, "out")}
              />
            )}
            {on && before?.ease === "curve" && (
              <Handle
                from={[x, y]}
                to={[x - k.in_time * (x - xOf(scale, before.frame)), yOf(k.value + k.in_value)]}
                label="Handle in"
                onGrab={(e) => onHandle(e, at, "in")}
              />
            )}
            <rect
              x={x - 5}
              y={y - 5}
              width="10"
              height="10"
              rx={roundness(k.ease)}
              transform={k.ease === "linear" ? `rotate(45 ${x} ${y})` : undefined}
              fill={on ? "var(--saffron-bar)" : "var(--raise)"}
              stroke={on ? "var(--ink)" : tint}
              strokeWidth="1.8"
              className="cursor-move"
              data-key={`${path}@${k.frame}`}
              aria-label={`Key of ${n.label} at frame ${k.frame}`}
              onPointerDown={(e) => onKey(e, k.frame)}
              onDoubleClick={(e) => {
                e.stopPropagation();
                act({ do: "frame", frame: k.frame });
              }}
            />
          </g>
        );
      })}
    </g>
  );
}

const roundness = (ease: Key["ease"]) => (ease === "hold" ? 0 : ease === "linear" ? 2 : 5);
