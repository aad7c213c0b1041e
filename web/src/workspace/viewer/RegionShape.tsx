import type { OutlinePoint } from "~/api/client";
import { apply, invert, type Matrix, type Point } from "~/workspace/geometry";
import { pathOf } from "~/workspace/outline";
import { round } from "~/workspace/patches";
import type { useGrab } from "~/workspace/viewer/useGrab";
import { FeatherEdge, FeatherHandles } from "~/workspace/viewer/Feather";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

interface ShapeProps {
  /** What is outlined; `use` is drawn in the colour of motions, else of mattes. */
  region: { id: string; name: string; use: boolean };
  /** A mask's own colour, whether it is shown faded, and whether its points can be feathered. */
  look?: { colour: string; faded: boolean; feather: boolean };
  on: boolean;
  onChoose: () => void;
  ride: Matrix;
  mapping: Mapping;
  frame: number;
  still: boolean;
  points: OutlinePoint[];
  hand: ReturnType<typeof useGrab>;
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

  const drag = (
    e: React.PointerEvent<SVGElement>,
    from: Point,
    change: (at: Point, e: PointerEvent) => OutlinePoint[],
  ) => {
    let last = points;
    hand.grab(
      e,
      apply(ride, from),
      (at, m) => {
        last = change(apply(back, at), m);
        onShape(last, false);
      },
      (at) => (at ? onShape(last, true) : onBroken()),
    );
  };
  const replace = (k: number, point: OutlinePoint) => points.map((p, i) => (i === k ? point : p));

  const movePoint = (e: React.PointerEvent<SVGElement>, k: number) => {
    const p = points[k]!;
    // With Ctrl a corner becomes a curve: the drag pulls out both handles.
    if (e.ctrlKey || e.metaKey)
      return drag(e, p, (at) => {
        const [dx, dy] = [round(at.x - p.x), round(at.y - p.y)];
        return replace(k, { ...p, out_x: dx, out_y: dy, in_x: -dx, in_y: -dy });
      });
    return drag(e, p, (at) => replace(k, { ...p, x: round(at.x), y: round(at.y) }));
  };
  const moveHandle = (e: React.PointerEvent<SVGElement>, k: number, side: "in" | "out") => {
    const p = points[k]!;
    const from = { x: p.x + p[`${side}_x`], y: p.y + p[`${side}_y`] };
    drag(e, from, (at, m) => {
      const [dx, dy] = [round(at.x - p.x), round(at.y - p.y)];
      const other = side === "in" ? "out" : "in";
      const mirrored = m.shiftKey ? {} : { [`${other}_x`]: -dx, [`${other}_y`]: -dy };
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
      <path d={d} fill="none" stroke="#0b0d0e" strokeOpacity="0.45" strokeWidth="3.5" />
      <path
        d={d}
        fill={look ? look.colour : region.use ? "transparent" : "rgb(107 70 148 / 0.22)"}
        fillOpacity={look ? (on && !look.faded ? 0.1 : 0.04) : 1}
        stroke={colour}
        strokeWidth={on ? 1.8 : 1.2}
        strokeDasharray={region.use ? "1 4" : "6 3"}
        strokeLinecap="round"
        className={still ? "pointer-events-auto cursor-pointer" : undefined}
        style={{ pointerEvents: still ? "stroke" : "none" }}
        role="button"
        aria-label={look ? region.name : `${region.name}, ${region.use ? "use" : "ignore"}`}
        onPointerDown={(e) => {
          e.stopPropagation();
          onChoose();
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
                    <circle
                      cx={end.x}
                      cy={end.y}
                      r="4"
                      fill="#fff"
                      stroke={colour}
                      strokeWidth="1.5"
                      className="pointer-events-auto cursor-move"
                      onPointerDown={(e) => moveHandle(e, k, side)}
                    />
                  </g>
                );
              })}
              <circle
                cx={half.x}
                cy={half.y}
                r="3.5"
                fill="#0b0d0e"
                fillOpacity="0.6"
                stroke={colour}
                className="pointer-events-auto cursor-copy"
                aria-label="Add a point here"
                onPointerDown={(e) => {
                  e.stopPropagation();
                  insert(k);
                }}
              />
              <circle
                cx={at.x}
                cy={at.y}
                r="5.5"
                fill={colour}
                stroke="#0b0d0e"
                className="pointer-events-auto cursor-move"
                role="button"
                tabIndex={0}
                aria-label={`Point ${k + 1} of ${region.name}`}
                data-outline-point={k}
                onPointerDown={(e) => movePoint(e, k)}
                onDoubleClick={() => sharpen(k)}
                onKeyDown={(e) => {
                  if (e.key !== "Delete" && e.key !== "Backspace") return;
                  e.preventDefault();
                  e.stopPropagation();
                  removePoint(k);
                }}
              />
            </g>
          );
        })}
    </g>
  );
}
