import type { OutlinePoint } from "~/api/client";
import { apply, invert, type Matrix, type Point } from "~/workspace/geometry";
import { outwards } from "~/workspace/masks";
import { round } from "~/workspace/patches";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import type { Grab, Hold } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** How far from its point the handle of an unfeathered point lies, in screen pixels. */
const APART = 17;
const STEPS = 12;

/** Where a feathered outline is gone. */
export function FeatherEdge({
  points,
  show,
  colour,
}: {
  points: OutlinePoint[];
  show: (p: Point) => Point;
  colour: string;
}) {
  if (!points.some((p) => p.feather)) return null;
  const curve: (OutlinePoint & { t: number })[] = [];
  points.forEach((p, k) => {
    const q = points[(k + 1) % points.length]!;
    for (let i = 0; i < STEPS; i++) {
      const t = i / STEPS;
      const s = 1 - t;
      const on = (axis: "x" | "y") =>
        s ** 3 * p[axis] +
        3 * s * s * t * (p[axis] + p[`out_${axis}`]) +
        3 * s * t * t * (q[axis] + q[`in_${axis}`]) +
        t ** 3 * q[axis];
      const feather = s * p.feather + t * q.feather;
      curve.push({ x: on("x"), y: on("y"), in_x: 0, in_y: 0, out_x: 0, out_y: 0, feather, t });
    }
  });
  const normals = outwards(curve);
  const line = curve.map((p, k) => {
    const n = normals[k]!;
    const at = show({ x: p.x + n.x * p.feather, y: p.y + n.y * p.feather });
    return `${at.x.toFixed(1)},${at.y.toFixed(1)}`;
  });
  return (
    <polygon
      points={line.join(" ")}
      fill="none"
      stroke={colour}
      strokeOpacity="0.8"
      strokeDasharray="1.5 4"
      strokeLinecap="round"
      strokeWidth="1.4"
    />
  );
}

interface Props {
  name: string;
  points: OutlinePoint[];
  ride: Matrix;
  mapping: Mapping;
  colour: string;
  hand: Grab;
  onShape: (points: OutlinePoint[], done: boolean) => void;
  onBroken: () => void;
}

/** A diamond at every point: pulled out or in, the mask fades that far there. With Shift all points alike. */
export function FeatherHandles({ name, points, ride, mapping, colour, hand, onShape, onBroken }: Props) {
  const back = invert(ride);
  const normals = outwards(points);
  return points.map((p, k) => {
    const n = normals[k]!;
    const on = toScreen(mapping, apply(ride, p));
    const end = toScreen(mapping, apply(ride, { x: p.x + n.x * p.feather, y: p.y + n.y * p.feather }));
    const near = toScreen(mapping, apply(ride, { x: p.x + n.x, y: p.y + n.y }));
    const length = Math.hypot(near.x - on.x, near.y - on.y) || 1;
    const [dx, dy] = [((near.x - on.x) / length) * APART, ((near.y - on.y) / length) * APART];
    // It always stands off its point, so that both can be taken hold of.
    const side = p.feather < 0 ? -1 : 1;
    const at = { x: end.x + side * dx, y: end.y + side * dy };
    const set = (value: number, all: boolean, done: boolean) =>
      onShape(
        points.map((q, i) => (all || i === k ? { ...q, feather: round(value) } : q)),
        done,
      );
    const hold = (): Hold => {
      let last = p.feather;
      let all = false;
      return {
        from: apply(ride, { x: p.x + n.x * p.feather, y: p.y + n.y * p.feather }),
        move: (to, keys) => {
          const q = apply(back, to);
          last = (q.x - p.x) * n.x + (q.y - p.y) * n.y;
          // The first pixel is easily met again: hard edges stay reachable.
          if (Math.abs(last) < 1) last = 0;
          all = keys.shiftKey;
          set(last, all, false);
        },
        end: (to) => (to ? set(last, all, true) : onBroken()),
      };
    };
    return (
      <g key={k}>
        <line
          x1={on.x}
          y1={on.y}
          x2={at.x}
          y2={at.y}
          stroke={colour}
          strokeOpacity={p.feather ? 0.9 : 0.3}
          strokeWidth="1"
        />
        <Handle
          at={at}
          label={`Feather of point ${k + 1} of ${name}`}
          hand={hand}
          hold={hold}
          halo={7}
          value={p.feather}
          onDoubleClick={() => set(0, false, true)}
          onArrow={(step, keys) => {
            // Out of the shape and into it; with Shift all points alike.
            const by = step.x - step.y;
            set(p.feather + (keys.shiftKey ? by / 10 : by), keys.shiftKey, true);
          }}
          data-feather={k}
        >
          <GripMark
            at={at}
            r={p.feather ? 5.6 : 4}
            shape="diamond"
            fill={p.feather ? colour : "var(--under-picture)"}
            fillOpacity={p.feather ? 1 : 0.55}
            edge={p.feather ? "var(--under-picture)" : colour}
          />
        </Handle>
      </g>
    );
  });
}
