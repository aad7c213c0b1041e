import { useState } from "react";
import type { OutlinePoint, PlaneMotion, Region, Shot } from "~/api/client";
import { useLive } from "~/api/events";
import { useOpenShot } from "~/workspace/context";
import { apply, IDENTITY, invert, type Matrix, type Point, quadMatrix } from "~/workspace/geometry";
import { outlineAt, pathOf, withOutline } from "~/workspace/outline";
import { round, setOnMotion } from "~/workspace/patches";
import { type Spaces, useSpaces } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { livePlane, LOST, REASONS, useHealth } from "~/workspace/tracks";
import { Loupe } from "~/workspace/viewer/Loupe";
import { useGrab } from "~/workspace/viewer/useGrab";
import { PictureText } from "~/workspace/viewer/PictureText";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const CORNERS = ["Top left", "Top right", "Bottom right", "Bottom left"];

export const quadPoints = (motion: PlaneMotion): Point[] => motion.quad.map(([x, y]) => ({ x, y }));

/** A plane on the picture: its quad with corner grips, and its regions with their points. */
export function PlaneHandles({
  motion,
  mapping,
  still = true,
  regions = true,
}: {
  motion: PlaneMotion;
  mapping: Mapping;
  still?: boolean;
  regions?: boolean;
}) {
  const { record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const health = useHealth(motion);
  const live = useLive((s) => s.partial[motion.id]);
  const moved = livePlane(live, frame) ?? spaces.plane(motion, frame);
  const hand = useGrab(mapping);
  const [preview, setPreview] = useState<Point[] | null>(null);
  const [shape, setShape] = useState<{ region: string; points: OutlinePoint[] } | null>(null);
  const footage = record.document.footage!;
  const trust = health.at(frame);
  const lost = trust?.state === LOST;
  const corners = preview ?? quadPoints(motion).map((p) => apply(moved, p));
  const staked = motion.stakes.find((s) => s.frame === frame);
  const screen = corners.map((p) => toScreen(mapping, p));
  const colour = lost ? "var(--brick-glow)" : "var(--glow)";

  const dragCorner = (e: React.PointerEvent<SVGElement>, k: number) => {
    const from = corners[k]!;
    const put = (at: Point) => corners.map((c, i) => (i === k ? at : c));
    hand.grab(
      e,
      from,
      (at) => setPreview(put(at)),
      (at) => {
        if (!at) return setPreview(null);
        void moveCorner(at, k).finally(() => setPreview(null));
      },
    );
  };

  /**
   * On the reference frame the quad itself is changed; elsewhere, once measured, the corner is staked. `by` moves
   * it on from where the edits before this one will have put it.
   */
  const moveCorner = (at: Point, k: number, by?: Point) => {
    const onQuad = frame === motion.reference_frame || !motion.measurement;
    const latest = (shot: Shot): PlaneMotion => {
      const found = shot.motions.find((m) => m.id === motion.id);
      return found?.kind === "plane" ? found : motion;
    };
    const placed = (now: PlaneMotion): Point => {
      const last = onQuad ? now.quad[k] : now.stakes.find((s) => s.frame === frame)?.corners[k];
      return by && last ? { x: last[0] + by.x, y: last[1] + by.y } : at;
    };
    const label = onQuad ? `Move a corner of ${motion.name}` : `Stake a corner of ${motion.name} at ${frame}`;
    return edits.edit(label, (shot) => {
      const now = latest(shot);
      const p = placed(now);
      const quad = now.quad.map((c, i) => (i === k ? [round(p.x), round(p.y)] : c));
      return setOnMotion(shot, motion.id, onQuad ? { quad } : { stakes: withStake(now, frame, k, p) });
    });
  };

  const box = hand.svg.current?.getBoundingClientRect();
  const grid = motion.grid ? gridLines(corners) : [];
  return (
    <>
      <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
        {regions &&
          motion.regions.map((region) => (
            <RegionShape
              key={region.id}
              region={region}
              motion={motion}
              ride={rideOf(region, motion, spaces, moved, frame)}
              mapping={mapping}
              frame={frame}
              still={still}
              points={shape?.region === region.id ? shape.points : outlineAt(region.outline, frame)}
              hand={hand}
              onShape={(points, done) => {
                setShape({ region: region.id, points });
                if (!done) return;
                void edits
                  .edit(`Shape ${region.name}`, (shot) => {
                    const now = shot.motions.find((m) => m.id === motion.id);
                    const all = now?.kind === "plane" ? now.regions : motion.regions;
                    const regions = all.map((r) =>
                      r.id === region.id ? { ...r, outline: withOutline(r.outline, frame, points) } : r,
                    );
                    return setOnMotion(shot, motion.id, { regions });
                  })
                  .finally(() => setShape(null));
              }}
              onBroken={() => setShape(null)}
            />
          ))}
        <polygon
          points={screen.map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(" ")}
          fill="none"
          stroke="#0b0d0e"
          strokeOpacity="0.55"
          strokeWidth="4"
        />
        {grid.map(([a, b], k) => {
          const [p, q] = [toScreen(mapping, a), toScreen(mapping, b)];
          return (
            <line
              key={k}
              x1={p.x}
              y1={p.y}
              x2={q.x}
              y2={q.y}
              stroke={colour}
              strokeOpacity="0.6"
              strokeWidth="1"
            />
          );
        })}
        <polygon
          data-quad={motion.id}
          points={screen.map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(" ")}
          fill="none"
          stroke={colour}
          strokeWidth="1.6"
          strokeDasharray={lost ? "7 5" : undefined}
        />
        {still &&
          screen.map((p, k) => {
            const mine = staked?.corners[k] != null;
            return (
              <rect
                key={k}
                x={p.x - 8}
                y={p.y - 8}
                width="16"
                height="16"
                rx="5"
                fill={mine ? "var(--saffron-bar)" : "#0c6670"}
                stroke="#effffd"
                strokeWidth="2"
                className="pointer-events-auto cursor-move"
                role="button"
                tabIndex={0}
                aria-label={`${CORNERS[k]} corner${mine ? ", staked here" : ""}`}
                data-corner={k}
                data-x={corners[k]!.x.toFixed(3)}
                data-y={corners[k]!.y.toFixed(3)}
                onPointerDown={(e) => dragCorner(e, k)}
                onKeyDown={(e) => {
                  const step = e.shiftKey ? 10 : e.altKey ? 0.1 : 1;
                  const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[
                    e.key
                  ];
                  if (!by) return;
                  e.preventDefault();
                  e.stopPropagation();
                  const d = { x: by[0]! * step, y: by[1]! * step };
                  void moveCorner({ x: corners[k]!.x + d.x, y: corners[k]!.y + d.y }, k, d);
                }}
              />
            );
          })}
        <PictureText x={(screen[0]!.x + screen[1]!.x) / 2} y={Math.min(screen[0]!.y, screen[1]!.y) - 12}>
          {motion.name}
          {lost
            ? ` · lost: ${REASONS[trust.reason] ?? ""}`
            : trust?.fewer
              ? ` · only ${trust.fewer} here`
              : ""}
        </PictureText>
      </svg>
      {hand.held && box && (
        <Loupe
          asset={footage.asset}
          frame={frame}
          at={hand.held}
          screen={toScreen(mapping, hand.held)}
          bounds={{ w: box.width, h: box.height }}
        />
      )}
    </>
  );
}

/** What carries a region from where it is drawn to the frame. */
function rideOf(region: Region, motion: PlaneMotion, spaces: Spaces, moved: Matrix, frame: number): Matrix {
  if (region.follow === "surface") return moved;
  if (region.follow === "screen") return IDENTITY;
  const target = region.follow.replace("motion:", "");
  const follow = {
    target,
    reference_frame: motion.reference_frame,
    shift: true,
    turn: true,
    size: true,
    perspective: true,
    inverted: false,
    smooth: 0,
  };
  return spaces.of(follow, frame);
}

export function withStake(motion: PlaneMotion, frame: number, corner: number, at: Point) {
  const old = motion.stakes.find((s) => s.frame === frame);
  const corners = [0, 1, 2, 3].map((k) =>
    k === corner ? [round(at.x), round(at.y)] : (old?.corners[k] ?? null),
  );
  return [...motion.stakes.filter((s) => s.frame !== frame), { frame, corners }].sort(
    (a, b) => a.frame - b.frame,
  );
}

function gridLines(corners: Point[]): [Point, Point][] {
  const unit = [
    { x: 0, y: 0 },
    { x: 1, y: 0 },
    { x: 1, y: 1 },
    { x: 0, y: 1 },
  ];
  const m = quadMatrix(unit, corners);
  if (!m) return [];
  const out: [Point, Point][] = [];
  for (let k = 1; k < 8; k++) {
    out.push([apply(m, { x: k / 8, y: 0 }), apply(m, { x: k / 8, y: 1 })]);
    out.push([apply(m, { x: 0, y: k / 8 }), apply(m, { x: 1, y: k / 8 })]);
  }
  return out;
}

interface ShapeProps {
  region: Region;
  motion: PlaneMotion;
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
function RegionShape({ region, motion, ride, mapping, still, points, hand, onShape, onBroken }: ShapeProps) {
  const chosen = useWorkspace((s) => s.chosen);
  const on = chosen.kind === "motion" && chosen.region === region.id;
  const back = invert(ride);
  const show = (p: Point) => toScreen(mapping, apply(ride, p));
  const colour = region.use ? "var(--glow)" : "var(--plum-glow)";
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
    };
    onShape([...points.slice(0, k + 1), middle, ...points.slice(k + 1)], true);
  };

  return (
    <g data-region={region.id}>
      <path d={d} fill="none" stroke="#0b0d0e" strokeOpacity="0.45" strokeWidth="3.5" />
      <path
        d={d}
        fill={region.use ? "transparent" : "rgb(107 70 148 / 0.22)"}
        stroke={colour}
        strokeWidth={on ? 1.8 : 1.2}
        strokeDasharray={region.use ? "1 4" : "6 3"}
        strokeLinecap="round"
        className={still ? "pointer-events-auto cursor-pointer" : undefined}
        style={{ pointerEvents: still ? "stroke" : "none" }}
        role="button"
        aria-label={`${region.name}, ${region.use ? "use" : "ignore"}`}
        onPointerDown={(e) => {
          e.stopPropagation();
          act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: null, region: region.id } });
        }}
      />
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
