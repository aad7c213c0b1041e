import { useShallow } from "zustand/react/shallow";
import { Fragment, useState } from "react";
import type { PlaneMotion } from "~/api/client";
import { useLive } from "~/api/events";
import { useOpenShot } from "~/workspace/context";
import { apply, type Point, quadMatrix } from "~/workspace/geometry";
import { outlineAt } from "~/workspace/outline";
import { round, setOnMotion } from "~/workspace/patches";
import { useSpaces } from "~/workspace/spaces";
import { useWorkspace } from "~/workspace/store";
import { livePlane, LOST, REASONS, useHealth } from "~/workspace/tracks";
import { HeldLoupe } from "~/workspace/viewer/Loupe";
import { RegionHandles, rideOf } from "~/workspace/viewer/RegionHandles";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
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
  const { edits } = useOpenShot();
  const { frame, chosen } = useWorkspace(useShallow((w) => ({ frame: w.frame, chosen: w.chosen })));
  const spaces = useSpaces();
  const health = useHealth(motion);
  const live = useLive((s) => s.partial[motion.id]);
  const moved = livePlane(live, frame) ?? spaces.plane(motion, frame);
  const hand = useGrab(mapping);
  const [preview, setPreview] = useState<Point[] | null>(null);
  const trust = health.at(frame);
  const lost = trust?.state === LOST;
  const corners = preview ?? quadPoints(motion).map((p) => apply(moved, p));
  const staked = motion.stakes.find((s) => s.frame === frame);
  const screen = corners.map((p) => toScreen(mapping, p));
  const colour = lost ? "var(--brick-glow)" : "var(--glow)";

  const hold = (k: number): Hold => {
    const from = corners[k]!;
    return {
      from,
      move: (at) => setPreview(corners.map((c, i) => (i === k ? at : c))),
      end: (at) => (at ? moveCorner(at, k).finally(() => setPreview(null)) : setPreview(null)),
    };
  };

  /** On the reference frame the quad itself is changed; elsewhere, once measured, the corner is staked. */
  const moveCorner = (at: Point, k: number) => {
    const onQuad = frame === motion.reference_frame || !motion.measurement;
    const label = onQuad ? `Move a corner of ${motion.name}` : `Stake a corner of ${motion.name} at ${frame}`;
    return edits.edit(label, (shot) => {
      const found = shot.motions.find((m) => m.id === motion.id);
      const now = found?.kind === "plane" ? found : motion;
      const quad = now.quad.map((c, i) => (i === k ? [round(at.x), round(at.y)] : c));
      return setOnMotion(shot, motion.id, onQuad ? { quad } : { stakes: withStake(now, frame, k, at) });
    });
  };

  const shaped =
    regions && chosen.kind === "motion" ? motion.regions.find((r) => r.id === chosen.region) : undefined;
  const underneath = shaped
    ? outlineAt(shaped.outline, frame).map((p) =>
        toScreen(mapping, apply(rideOf(shaped, motion, spaces, moved, frame), p)),
      )
    : [];
  const grips = screen.map((p) => clearOf(p, screen, underneath));

  const grid = motion.grid ? gridLines(corners) : [];
  return (
    <>
      <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
        {regions && (
          <RegionHandles motion={motion} moved={moved} mapping={mapping} still={still} hand={hand} />
        )}
        <polygon
          points={screen.map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(" ")}
          fill="none"
          stroke="var(--under-picture)"
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
          grips.map((p, k) => {
            const mine = staked?.corners[k] != null;
            const corner = screen[k]!;
            return (
              <Fragment key={k}>
                {p !== corner && (
                  <line
                    x1={corner.x}
                    y1={corner.y}
                    x2={p.x}
                    y2={p.y}
                    stroke="var(--grip-edge)"
                    strokeWidth="1.5"
                  />
                )}
                <Handle
                  at={p}
                  label={`${CORNERS[k]} corner${mine ? ", staked here" : ""}`}
                  hand={hand}
                  hold={() => hold(k)}
                  data-corner={k}
                  data-x={corners[k]!.x.toFixed(3)}
                  data-y={corners[k]!.y.toFixed(3)}
                >
                  <GripMark at={p} r={8} fill={mine ? "var(--saffron-bar)" : undefined} />
                </Handle>
              </Fragment>
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
      <HeldLoupe hand={hand} mapping={mapping} />
    </>
  );
}

/** A grip's place: on its corner, or outside it on a stem where a point of the chosen region lies underneath. */
function clearOf(corner: Point, quad: Point[], points: Point[]): Point {
  if (!points.some((p) => Math.hypot(p.x - corner.x, p.y - corner.y) < 14)) return corner;
  const dx = corner.x - quad.reduce((s, p) => s + p.x, 0) / 4;
  const dy = corner.y - quad.reduce((s, p) => s + p.y, 0) / 4;
  const far = Math.max(Math.hypot(dx, dy), 1e-6);
  return { x: corner.x + (dx / far) * 22, y: corner.y + (dy / far) * 22 };
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
