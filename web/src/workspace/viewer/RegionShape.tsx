import type { OutlinePoint } from "~/api/client";
import { apply, invert, type Matrix, type Point } from "~/workspace/geometry";
import { pathOf } from "~/workspace/outline";
import { round } from "~/workspace/patches";
import { FeatherEdge, FeatherHandles } from "~/workspace/viewer/Feather";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import type { Grab, Hold, Keys } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

interface ShapeProps {
  /** What is outlined; `use` is drawn in the colour of motions, else of mattes. */
  region: { id: string; name: string; use: boolean };
  /** A mask's own colour, whether it is shown faded, whether its points can be feathered, and whether it
   * goes along with the chosen one. */
  look?: { colour: string; faded: boolean; feather: boolean; along: boolean };
  on: boolean;
  /** `add`: beside what is chosen already. */
  onChoose: (add?: boolean) => void;
  ride: Matrix;
  mapping: Mapping;
  frame: number;
  still: boolean;
  points: OutlinePoint[];
  hand: Grab;
  onShape: (points: OutlinePoint[], done: boolean) => void;
  onBroken: () => void;
}

/** A region: its outline; when chosen, its points, their curve handles, and a place to add a point on every side. */
export function RegionShape({
  region,
  look,
  on,
  onChoose,
  ride,
  mapping,
  still,
  points,
  hand,
  onShape,
  onBroken,
}: ShapeProps) {
  const back = invert(ride);
  const show = (p: Point) => toScreen(mapping, apply(ride, p));
  const colour = look?.colour ?? (region.use ? "var(--glow)" : "var(--plum-glow)");
  const d = pathOf(points, show);

  const holding = (from: Point, change: (at: Point, keys: Keys) => OutlinePoint[]): Hold => {
    let last = points;
    return {
      from: apply(ride, from),
      move: (at, keys) => {
        last = change(apply(back, at), keys);
        onShape(last, false);
      },
      end: (at) => (at ? onShape(last, true) : onBroken()),
    };
  };
  const replace = (k: number, point: OutlinePoint) => points.map((p, i) => (i === k ? point : p));

  const holdPoint = (k: number, keys: Keys): Hold => {
    const p = points[k]!;
    // With Ctrl a corner becomes a curve: the drag pulls out both handles.
    if (keys.ctrlKey || keys.metaKey)
      return holding(p, (at) => {
        const [dx, dy] = [round(at.x - p.x), round(at.y - p.y)];
        return replace(k, { ...p, out_x: dx, out_y: dy, in_x: -dx, in_y: -dy });
      });
    return holding(p, (at) => replace(k, { ...p, x: round(at.x), y: round(at.y) }));
  };
  const holdArm = (k: number, side: "in" | "out"): Hold => {
    const p = points[k]!;
    const from = { x: p.x + p[`${side}_x`], y: p.y + p[`${side}_y`] };
    return holding(from, (at, keys) => {
      const [dx, dy] = [round(at.x - p.x), round(at.y - p.y)];
      const other = side === "in" ? "out" : "in";
      const mirrored = keys.shiftKey ? {} : { [`${other}_x`]: -dx, [`${other}_y`]: -dy };
      return replace(k, { ...p, [`${side}_x`]: dx, [`${side}_y`]: dy, ...mirrored });
    });
  };
  const sharpen = (k: number) =>
    onShape(replace(k, { ...points[k]!, in_x: 0, in_y: 0, out_x: 0, out_y: 0 }), true);
  const removePoint = (k: number) =>
    points.length > 3 &&
    onShape(
      points.filter((_, i) => i !== k),
      true,
    );
  const insert = (k: number) => {
    const a = points[k]!;
    const b = points[(k + 1) % points.length]!;
    const middle = {
      x: round((a.x + 3 * (a.x + a.out_x) + 3 * (b.x + b.in_x) + b.x) / 8),
      y: round((a.y + 3 * (a.y + a.out_y) + 3 * (b.y + b.in_y) + b.y) / 8),
      in_x: 0,
      in_y: 0,
      out_x: 0,
      out_y: 0,
      feather: (a.feather + b.feather) / 2,
    };
    onShape([...points.slice(0, k + 1), middle, ...points.slice(k + 1)], true);
  };

  return (
    <g data-region={region.id}>
      <path d={d} fill="none" stroke="var(--under-picture)" strokeOpacity="0.45" strokeWidth="3.5" />
      <path
        d={d}
        fill={look ? look.colour : region.use ? "transparent" : "rgb(107 70 148 / 0.22)"}
        fillOpacity={look ? (on && !look.faded ? 0.1 : 0.04) : 1}
        stroke={colour}
        strokeWidth={on || look?.along ? 1.8 : 1.2}
        strokeDasharray={region.use ? "1 4" : "6 3"}
        strokeLinecap="round"
        className={still ? "pointer-events-auto cursor-pointer" : undefined}
        style={{ pointerEvents: still ? "stroke" : "none" }}
        role="button"
        aria-label={look ? region.name : `${region.name}, ${region.use ? "use" : "ignore"}`}
        onPointerDown={(e) => {
          e.stopPropagation();
          onChoose(e.shiftKey);
        }}
      />
      {look?.feather && <FeatherEdge points={points} show={show} colour={colour} />}
      {on && still && look?.feather && (
        <FeatherHandles {...{ points, ride, mapping, colour, hand, onShape, onBroken }} name={region.name} />
      )}
      {on &&
        still &&
        points.map((p, k) => {
          const at = show(p);
          const next = points[(k + 1) % points.length]!;
          const half = show({
            x: (p.x + 3 * (p.x + p.out_x) + 3 * (next.x + next.in_x) + next.x) / 8,
            y: (p.y + 3 * (p.y + p.out_y) + 3 * (next.y + next.in_y) + next.y) / 8,
          });
          return (
            <g key={k}>
              {(["in", "out"] as const).map((side) => {
                if (!p[`${side}_x`] && !p[`${side}_y`]) return null;
                const end = show({ x: p.x + p[`${side}_x`], y: p.y + p[`${side}_y`] });
                return (
                  <g key={side}>
                    <line x1={at.x} y1={at.y} x2={end.x} y2={end.y} stroke={colour} strokeWidth="1" />
                    <Handle
                      at={end}
                      label={`Curve ${side === "in" ? "into" : "out of"} point ${k + 1} of ${region.name}`}
                      hand={hand}
                      hold={() => holdArm(k, side)}
                      halo={7}
                    >
                      <GripMark at={end} r={4} shape="round" fill="#fff" edge={colour} />
                    </Handle>
                  </g>
                );
              })}
              <circle
                cx={half.x}
                cy={half.y}
                r="3.5"
                fill="var(--under-picture)"
                fillOpacity="0.6"
                stroke={colour}
                className="pointer-events-auto cursor-copy"
                role="button"
                tabIndex={0}
                aria-label="Add a point here"
                onPointerDown={(e) => {
                  e.stopPropagation();
                  insert(k);
                }}
                onKeyDown={(e) => {
                  if (e.key !== "Enter") return;
                  e.stopPropagation();
                  insert(k);
                }}
              />
              <Handle
                at={at}
                label={`Point ${k + 1} of ${region.name}`}
                hand={hand}
                hold={(keys) => holdPoint(k, keys)}
                halo={7}
                onDoubleClick={() => sharpen(k)}
                onRemove={() => removePoint(k)}
                data-outline-point={k}
              >
                <GripMark at={at} r={5.5} shape="round" fill={colour} edge="var(--under-picture)" />
              </Handle>
            </g>
          );
        })}
    </g>
  );
}
