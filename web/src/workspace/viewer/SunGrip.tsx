import { useState } from "react";
import type { FilmedLayer } from "~/api/client";
import { by, length, minus, plus, type RoomCamera, type V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { type Point, valueAt, withValue } from "~/workspace/geometry";
import { allLayers, setOnLayer } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import { isBehind, onBall, sunFrom, sunWay } from "~/workspace/viewer/sun";
import { Handle } from "~/workspace/viewer/Handle";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** How far beyond the ball's rim, in radii, the grip has to be pulled to go round to the other side. */
const OVER = 0.06;
/** The ball's radius for a picture of which the thing takes little: a share of its distance. */
const LEAST = 0.14;

/** Where the light on a model comes from: a grip to pull round it; over the rim it goes behind and comes back. */
export function SunGrip({
  layer,
  camera,
  at,
  size,
  mapping,
}: {
  layer: FilmedLayer;
  camera: RoomCamera;
  at: V3;
  size: V3;
  mapping: Mapping;
}) {
  const { record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const hand = useGrab(mapping);
  const [pulled, setPulled] = useState<Partial<FilmedLayer> | null>(null);
  const lender = sunOwner(allLayers(record.document), layer);
  const sun = { ...lender, ...pulled };
  if (valueAt(sun.sun, frame) <= 0) return null;
  const away = length(minus(at, camera.eye(frame)));
  const ball = {
    centre: at,
    radius: Math.min(0.45 * away, Math.max(0.75 * Math.max(...size), LEAST * away)),
  };
  const [heading, height] = [valueAt(sun.sun_heading, frame), valueAt(sun.sun_height, frame)];
  const way = sunWay(camera, frame, heading, height);
  const behind = isBehind(camera, frame, ball, way);
  const place = camera.project(frame, plus(at, by(way, ball.radius)));
  const foot = camera.project(frame, at);
  if (!place || !foot) return null;
  const [grip, base] = [toScreen(mapping, place), toScreen(mapping, foot)];

  const put = (to: { heading: number; height: number }): Partial<FilmedLayer> => ({
    sun_heading: withValue(lender.sun_heading, frame, round1(to.heading)),
    sun_height: withValue(lender.sun_height, frame, round1(to.height)),
  });
  const save = (change: Partial<FilmedLayer>) =>
    edits
      .edit(`Turn the sun on ${lender.name}`, (latest) => setOnLayer(latest, lender.id, change))
      .finally(() => setPulled(null));

  const hold = (): Hold => {
    let side = behind;
    let over = false;
    let change: Partial<FilmedLayer> | null = null;
    return {
      from: place,
      move: (p) => {
        const met = onBall(camera, frame, ball, p, side);
        if (met.beyond > OVER) over = true;
        if (met.beyond === 0 && over) {
          over = false;
          side = !side;
        }
        const on = met.beyond === 0 ? onBall(camera, frame, ball, p, side).way : met.way;
        change = put(sunFrom(camera, frame, on, heading));
        setPulled(change);
      },
      end: (p) => (p && change ? save(change) : setPulled(null)),
    };
  };
  /** Arrow keys go round by degrees, and up and down. */
  const turn = (step: Point) =>
    void save(put({ heading: heading + step.x, height: Math.min(90, Math.max(1, height - step.y)) }));
  const title = `Sun on ${lender.name}: from ${heading.toFixed(0)}°, ${height.toFixed(0)}° above`;
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full" data-testid="sun-grip">
      <path
        d={`M${grip.x} ${grip.y}L${base.x} ${base.y}`}
        stroke="var(--sun-glow)"
        strokeWidth="1.6"
        strokeDasharray="0.5 5"
        strokeLinecap="round"
      />
      <Handle
        at={grip}
        label={`Turn the sun on ${lender.name}`}
        title={behind ? `${title}, from behind. Pull it over the rim to bring it to the front.` : title}
        hand={hand}
        hold={hold}
        onArrow={turn}
        halo={15}
        data-behind={behind}
      >
        {/* Dark under light: it is seen on brass as on night. */}
        <path
          d={rays(grip)}
          stroke="var(--under-picture)"
          strokeOpacity="0.75"
          strokeWidth="4.5"
          strokeLinecap="round"
        />
        <path
          d={rays(grip)}
          stroke={behind ? "var(--spark)" : "var(--sun-glow)"}
          strokeWidth="2"
          strokeLinecap="round"
        />
        <circle
          cx={grip.x}
          cy={grip.y}
          r="7"
          fill={behind ? "var(--dark-on-picture)" : "var(--sun-glow)"}
          stroke={behind ? "var(--spark)" : "var(--under-picture)"}
          strokeWidth="2"
        />
      </Handle>
    </svg>
  );
}

/** What has the sun that lights something: its own, or that of the one it is lit like, by way of others. */
export function sunOwner(stack: readonly { id: string; kind: string }[], layer: FilmedLayer): FilmedLayer {
  const others = new Map(stack.filter((l) => "sun_heading" in l).map((l) => [l.id, l as FilmedLayer]));
  const passed = new Set([layer.id]);
  let one = layer;
  while (one.lit_like && others.has(one.lit_like) && !passed.has(one.lit_like)) {
    one = others.get(one.lit_like)!;
    passed.add(one.id);
  }
  return one;
}

const round1 = (v: number) => Math.round(v * 10) / 10;

const RAYS = [0, 1, 2, 3, 4, 5, 6].map((k) => (k * 2 * Math.PI) / 7);

const rays = (at: Point) =>
  RAYS.map((turn) => {
    const [c, s] = [Math.cos(turn), Math.sin(turn)];
    return `M${at.x + 10.5 * c} ${at.y + 10.5 * s}L${at.x + 14 * c} ${at.y + 14 * s}`;
  }).join("");
