import { useState } from "react";
import type { FilmedLayer } from "~/api/client";
import { by, length, minus, plus, type RoomCamera, type V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { type Point, valueAt, withValue } from "~/workspace/geometry";
import { allLayers, setOnLayer } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import { isBehind, onBall, sunFrom, sunWay } from "~/workspace/viewer/sun";
import { useGrab } from "~/workspace/viewer/useGrab";
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
    void edits
      .edit(`Turn the sun on ${lender.name}`, (latest) => setOnLayer(latest, lender.id, change))
      .finally(() => setPulled(null));

  const drag = (e: React.PointerEvent<SVGElement>) => {
    let side = behind;
    let over = false;
    let change: Partial<FilmedLayer> | null = null;
    hand.grab(
      e,
      place,
      (p) => {
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
      (p) => (p && change ? save(change) : setPulled(null)),
    );
  };
  const nudge = (e: React.KeyboardEvent) => {
    const step = e.shiftKey ? 10 : 1;
    const turn = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, step], ArrowDown: [0, -step] }[
      e.key
    ];
    if (!turn) return;
    e.preventDefault();
    e.stopPropagation();
    save(put({ heading: heading + turn[0]!, height: Math.min(90, Math.max(1, height + turn[1]!)) }));
  };
  const title = `Sun on ${lender.name}: from ${heading.toFixed(0)}°, ${height.toFixed(0)}° above`;
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full" data-testid="sun-grip">
      <path
        d={`M${grip.x} ${grip.y}L${base.x} ${base.y}`}
        stroke="#ffe9b0"
        strokeWidth="1.6"
        strokeDasharray="0.5 5"
        strokeLinecap="round"
      />
      <g
        className="pointer-events-auto cursor-move outline-none [&:focus-visible>circle]:stroke-white"
        role="button"
        tabIndex={0}
        aria-label={`Turn the sun on ${lender.name}`}
        data-behind={behind}
        onPointerDown={drag}
        onKeyDown={nudge}
      >
        <title>
          {behind ? `${title}, from behind. Pull it over the rim to bring it to the front.` : title}
        </title>
        {/* Dark under light: it is seen on brass as on night. */}
        <path d={rays(grip)} stroke="#0b0d0e" strokeOpacity="0.75" strokeWidth="4.5" strokeLinecap="round" />
        <path
          d={rays(grip)}
          stroke={behind ? "var(--spark)" : "#ffe9b0"}
          strokeWidth="2"
          strokeLinecap="round"
        />
        <circle
          cx={grip.x}
          cy={grip.y}
          r="7"
          fill={behind ? "#22262b" : "#ffe9b0"}
          stroke={behind ? "var(--spark)" : "#0b0d0e"}
          strokeWidth="2"
        />
      </g>
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
