import type { ReactNode } from "react";
import type { Point } from "~/workspace/geometry";
import type { Grab, Hold, Keys } from "~/workspace/viewer/useGrab";
import { arrowOf, useNudge } from "~/workspace/viewer/useNudge";

interface Props {
  /** Where it is on the screen. */
  at: Point;
  label: string;
  hand: Grab;
  /** What moving it does, from how things lie now; null: it cannot be taken hold of. */
  hold: (keys: Keys) => Hold | null;
  cursor?: string;
  title?: string;
  /** How far round it still counts as it, in screen pixels; 0: only what is drawn. */
  halo?: number;
  /** Told where it is a slider: what it stands at. */
  value?: number;
  onFocus?: () => void;
  onRemove?: () => void;
  onDoubleClick?: () => void;
  /** What an arrow key does where it is not a way on the picture; the step is 1, 10 or a tenth. */
  onArrow?: (step: Point, keys: Keys) => void;
  children?: ReactNode;
  [data: `data-${string}`]: string | number | boolean | undefined;
}

/** A grip on the picture: pulled by the pointer, or moved by the arrow keys while it has the focus. */
export function Handle({
  at,
  label,
  hand,
  hold,
  cursor = "cursor-move",
  title,
  halo = 11,
  value,
  onFocus,
  onRemove,
  onDoubleClick,
  onArrow,
  children,
  ...data
}: Props) {
  const nudge = useNudge((keys) => {
    const taken = hold(keys);
    return taken && hand.watched(taken);
  });
  const onKeyDown = (e: React.KeyboardEvent) => {
    const step = arrowOf(e);
    if (step && onArrow) onArrow(step, e);
    else if (step) nudge.by(step);
    else if (onRemove && (e.key === "Delete" || e.key === "Backspace")) onRemove();
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  const told =
    value === undefined ? { role: "button" } : { role: "slider", "aria-valuenow": Math.round(value) };
  return (
    <g
      {...told}
      {...data}
      tabIndex={0}
      aria-label={label}
      className={`group/handle pointer-events-auto outline-none ${cursor}`}
      onPointerDown={(e) => {
        const taken = e.button === 0 && hold(e);
        if (taken) hand.grab(e, taken);
      }}
      onDoubleClick={onDoubleClick}
      onFocus={onFocus}
      onBlur={nudge.letGo}
      onKeyDown={onKeyDown}
      onKeyUp={nudge.rest}
    >
      {title && <title>{title}</title>}
      {children}
      {halo > 0 && <circle cx={at.x} cy={at.y} r={halo} fill="transparent" />}
      <circle
        cx={at.x}
        cy={at.y}
        r={Math.max(halo, 9)}
        fill="none"
        stroke="var(--on-picture)"
        strokeWidth="2"
        strokeDasharray="2 3"
        className="pointer-events-none opacity-0 group-focus-visible/handle:opacity-100"
      />
    </g>
  );
}

interface MarkProps {
  at: Point;
  r?: number;
  shape?: "round" | "square" | "diamond";
  fill?: string;
  edge?: string;
  fillOpacity?: number;
}

/** How a grip looks: dark under light, so that it is seen on everything. */
export function GripMark({
  at,
  r = 6.5,
  shape = "square",
  fill = "var(--grip)",
  edge = "var(--grip-edge)",
  fillOpacity,
}: MarkProps) {
  const common = {
    fill,
    fillOpacity,
    stroke: edge,
    strokeWidth: r < 5 ? 1.4 : 2,
    strokeLinejoin: "round",
  } as const;
  if (shape === "round") return <circle cx={at.x} cy={at.y} r={r} {...common} />;
  if (shape === "diamond")
    return (
      <path
        d={`M${at.x} ${at.y - r}L${at.x + r} ${at.y}L${at.x} ${at.y + r}L${at.x - r} ${at.y}Z`}
        {...common}
      />
    );
  return <rect x={at.x - r} y={at.y - r} width={2 * r} height={2 * r} rx={0.6 * r} {...common} />;
}
