import { useState } from "react";
import type { Num, Perch, StandingLayer } from "~/api/client";
import { useMeasurement } from "~/api/queries";
import { useLanding } from "~/workspace/actions/stand";
import { by, plus, type RoomCamera, standing, type V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { type Point, valueAt, withValue } from "~/workspace/geometry";
import { setOnLayer, setOnPerch } from "~/workspace/patches";
import { isFilmed, isWorked } from "~/workspace/kinds";
import { useCameras } from "~/workspace/spaces";
import { useWorkspace } from "~/workspace/store";
import { movedSpot } from "~/workspace/viewer/movedSpot";
import { SunGrip } from "~/workspace/viewer/SunGrip";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** What a drag changes: where its spot is, how it stands there. */
interface Moved {
  perch?: Partial<Perch>;
  layer?: Partial<StandingLayer>;
}
type Grip = "move" | "turn" | "tall" | "wide" | "deep" | "lift";
const LABELS: Record<Grip, string> = {
  move: "Move",
  turn: "Turn",
  tall: "Resize",
  wide: "Resize",
  deep: "Resize",
  lift: "Lift",
};
const NAMES: Record<Grip, string> = { ...LABELS, tall: "Height of", wide: "Width of", deep: "Depth of" };

/** A model, form or lamp on the picture: the box it fills, its foot to drag over the ground, its heading and its size. */
export function ModelHandles({ layer, mapping }: { layer: StandingLayer; mapping: Mapping }) {
  const { record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const cameras = useCameras();
  const hand = useGrab(mapping);
  const land = useLanding();
  const [preview, setPreview] = useState<Moved | null>(null);
  const kept = record.document.perches.find((p) => p.id === layer.follow.target);
  const camera = cameras.get(kept?.follow.target ?? "");
  const room = record.document.motions.find((m) => m.id === kept?.follow.target);
  const { data: measured } = useMeasurement(room?.measurement ?? null);
  const details = measured?.camera?.details ?? [];
  if (!kept?.spot || !camera) return null;
  const perch = { ...kept, ...preview?.perch };
  const shown = { ...layer, ...preview?.layer } as StandingLayer;
  const spot = perch.spot ?? kept.spot;
  const { on, foot, axes, size } = standing(camera, spot, shown, frame);
  const [w, h, d] = size;
  // A lamp hangs by its middle; all else stands on its foot.
  const low = layer.kind === "lamp" ? -h / 2 : 0;
  const place = (x: number, y: number, z: number): V3 =>
    plus(plus(plus(foot, by(axes[0], x)), by(axes[1], y)), by(axes[2], z));
  const corners = [0, 1, 2, 3, 4, 5, 6, 7].map((k) =>
    place((k & 1 ? 0.5 : -0.5) * w, low + (k & 4 ? h : 0), (k & 2 ? 0.5 : -0.5) * d),
  );
  const see = (p: V3) => seenOn(camera, frame, mapping, p);
  const ground: V3 = [valueAt(spot.x, frame), valueAt(spot.y, frame), valueAt(spot.z, frame)];
  const above = layer.kind === "lamp" ? 0 : on[1] - ground[1];
  const spots: Record<Grip, V3> = {
    move: layer.kind === "lamp" ? ground : on,
    turn: place(0, 0, 0.5 * d + 0.35 * Math.max(w, d)),
    // Pushed out only a little it would lie on the grip that moves the whole.
    tall: place(layer.kind === "relief" ? -0.5 * w : 0, low + h, 0),
    wide: place(0.5 * w, low + h / 2, 0),
    deep: place(0, low + h / 2, 0.5 * d),
    lift: foot,
  };
  const grips: Grip[] =
    layer.kind === "model"
      ? ["turn", "tall", "move"]
      : layer.kind === "lamp"
        ? ["turn", "wide", "tall", "lift", "move"]
        : layer.kind !== "relief" && (isWorked(layer) || layer.shape === "plane")
          ? ["turn", "wide", "deep", "move"]
          : ["turn", "wide", "deep", "tall", "move"];
  const at = Object.fromEntries(
    (Object.keys(spots) as Grip[]).map((g) => [
      g,
      g === "move" ? camera.project(frame, spots.move) : see(spots[g]),
    ]),
  ) as Record<Grip, Point | null>;

  /** With Ctrl, the solved detail nearest to the pointer takes the thing. */
  const snapped = (p: Point): Perch["spot"] => {
    let best: { away: number; place: V3 } | null = null;
    for (const d of details) {
      if (!d.kept) continue;
      const place = camera.inRoom(d.place);
      const seen = camera.project(frame, place);
      const away = seen ? Math.hypot(seen.x - p.x, seen.y - p.y) * mapping.zoom : Infinity;
      if (away < SNAP_PX && away < (best?.away ?? Infinity)) best = { away, place };
    }
    if (!best) return null;
    const put = (v: Num, to: number) => withValue(v, frame, Math.round(to * 1e5) / 1e5);
    const [x, y, z] = best.place;
    return { ...kept.spot!, x: put(kept.spot!.x, x), y: put(kept.spot!.y, y), z: put(kept.spot!.z, z) };
  };

  /** What it lands on under a pixel: on the ground it stands there; on another thing it is lifted above its spot. */
  const landed = (place: readonly number[], other: boolean): Moved => {
    const put = (v: Num, to: number) => withValue(v, frame, Math.round(to * 1e5) / 1e5);
    const [x, y, z] = place as [number, number, number];
    const base = other ? ground[1] : y;
    return {
      perch: {
        spot: { ...kept.spot!, x: put(kept.spot!.x, x), y: put(kept.spot!.y, base), z: put(kept.spot!.z, z) },
      },
      layer: { lift: withValue(layer.lift, frame, Math.round((y - base) * 1e4) / 1e4) },
    };
  };

  const hold = (grip: Grip): Hold | null => {
    const from = camera.project(frame, spots[grip]);
    const base = camera.project(frame, on);
    if (!from || !base) return null;
    let change: Moved | null = null;
    // One question to the server at a time, the latest: what lies under the pointer.
    let asking: Promise<void> | null = null;
    let next: Point | null = null;
    const ask = (p: Point): void => {
      next = p;
      asking ??= (async () => {
        while (next) {
          const at = next;
          next = null;
          const met = await land({ motion: room!.id, surface: null }, frame, at, layer.id);
          if (!met || next) continue;
          // What is there comes before the details of the plate, which lie everywhere.
          const detail = met.on === null ? snapped(at) : null;
          if (detail) change = { perch: { spot: detail }, layer: { lift: withValue(layer.lift, frame, 0) } };
          else if (met.place) change = landed(met.place, met.on !== null);
          setPreview(change);
        }
        asking = null;
      })();
    };
    return {
      from,
      move: (p, event) => {
        if (grip === "move") {
          // A lamp hangs: it only takes details.
          if (event.ctrlKey && layer.kind !== "lamp") return ask(p);
          next = null;
          change = {
            perch: {
              spot:
                (event.ctrlKey && snapped(p)) ||
                movedSpot(camera, kept.spot!, frame, p, event.shiftKey, above),
            },
          };
        }
        if (grip === "tall" && layer.kind === "relief") {
          // Out of the surface and into it: how far its own width would go in the picture says how far.
          const out = camera.project(frame, plus(foot, by(axes[1], layer.wide)));
          const flat = camera.project(frame, foot);
          if (!out || !flat) return;
          const unit = Math.max(Math.hypot(out.x - flat.x, out.y - flat.y), 1);
          const share = ((p.x - from.x) * (out.x - flat.x) + (p.y - from.y) * (out.y - flat.y)) / unit ** 2;
          const height = round4(valueAt(layer.height, frame) + share * layer.wide);
          change = { layer: { height: withValue(layer.height, frame, height) } };
        } else if (grip === "tall" || grip === "wide" || grip === "deep") {
          const middle = grip === "tall" ? base : (camera.project(frame, place(0, low + h / 2, 0)) ?? base);
          const grown =
            Math.hypot(p.x - middle.x, p.y - middle.y) /
            Math.max(Math.hypot(from.x - middle.x, from.y - middle.y), 1);
          const now = (layer as unknown as Record<string, Num>)[grip]!;
          change = { layer: { [grip]: withValue(now, frame, round4(valueAt(now, frame) * grown)) } };
        }
        if (grip === "lift") {
          // Up and down where it stands: the picture's height between the ground and the thing says how far.
          const top = camera.project(frame, plus(ground, [0, 1, 0]));
          const foot_ = camera.project(frame, ground);
          if (!top || !foot_) return;
          const unit = Math.max(Math.hypot(top.x - foot_.x, top.y - foot_.y), 1);
          const up = ((p.x - from.x) * (top.x - foot_.x) + (p.y - from.y) * (top.y - foot_.y)) / unit ** 2;
          const lift = valueAt(layer.lift, frame) + up;
          change = { layer: { lift: withValue(layer.lift, frame, Math.round(lift * 1e4) / 1e4) } };
        }
        if (grip === "turn") {
          const to = movedSpot(camera, kept.spot!, frame, p, false, on[1] - ground[1]);
          const [x, z] = [valueAt(to.x, frame) - on[0], valueAt(to.z, frame) - on[2]];
          const now = Math.atan2(spots.turn[0] - on[0], spots.turn[2] - on[2]);
          const turned = ((Math.atan2(x, z) - now) * 180) / Math.PI;
          const heading = valueAt(layer.heading, frame) + ((((turned + 180) % 360) + 360) % 360) - 180;
          change = { layer: { heading: withValue(layer.heading, frame, Math.round(heading * 10) / 10) } };
        }
        setPreview(change);
      },
      end: async (p) => {
        await asking;
        if (!p || !change) return setPreview(null);
        const done: Moved = change;
        await edits.edit(`${LABELS[grip]} ${layer.name}`, (latest) => [
          ...(done.perch ? setOnPerch(latest, kept.id, done.perch) : []),
          ...(done.layer ? setOnLayer(latest, layer.id, done.layer) : []),
        ]);
        setPreview(null);
      },
    };
  };

  const line = (a: number, b: number) => {
    const [p, q] = [see(corners[a]!), see(corners[b]!)];
    return p && q ? `M${p.x.toFixed(1)} ${p.y.toFixed(1)}L${q.x.toFixed(1)} ${q.y.toFixed(1)}` : "";
  };
  const path = EDGES.map(([a, b]) => line(a, b)).join("");
  const middle = at.move && toScreen(mapping, at.move);
  return (
    <>
      {isFilmed(layer) && (
        <SunGrip layer={layer} camera={camera} at={on} size={[w, h, d]} mapping={mapping} />
      )}
      <svg
        ref={hand.svg}
        className="pointer-events-none absolute inset-0 size-full"
        data-testid="model-handles"
      >
        <path d={path} fill="none" stroke="var(--under-picture)" strokeOpacity="0.5" strokeWidth="3.5" />
        <path d={path} fill="none" stroke="var(--spark)" strokeWidth="1.3" strokeDasharray="5 3" />
        {middle && at.turn && (
          <line
            x1={(at.lift && layer.kind === "lamp" ? at.lift : middle).x}
            y1={(at.lift && layer.kind === "lamp" ? at.lift : middle).y}
            x2={at.turn.x}
            y2={at.turn.y}
            stroke="var(--spark)"
            strokeWidth="1.3"
          />
        )}
        {layer.kind === "lamp" && middle && at.lift && (
          <line
            x1={middle.x}
            y1={middle.y}
            x2={at.lift.x}
            y2={at.lift.y}
            stroke="var(--spark)"
            strokeWidth="1.3"
            strokeDasharray="2 4"
          />
        )}
        {grips.map((grip) => {
          const on = grip === "move" ? middle : at[grip];
          return (
            on && (
              <Handle
                key={grip}
                at={on}
                label={`${NAMES[grip]} ${layer.name}`}
                hand={hand}
                hold={() => hold(grip)}
                data-model-grip={grip}
              >
                <GripMark
                  at={on}
                  r={7}
                  shape={grip === "move" ? "round" : "square"}
                  fill={grip === "move" ? "var(--spark)" : "var(--dark-on-picture)"}
                  edge={grip === "move" ? "var(--under-picture)" : "var(--spark)"}
                />
              </Handle>
            )
          );
        })}
      </svg>
    </>
  );
}

/** How near on the screen a detail must be to take a thing that is dragged with Ctrl. */
const SNAP_PX = 16;

const round4 = (v: number) => Math.round(Math.min(10000, Math.max(0.0001, v)) * 1e4) / 1e4;

const EDGES = [
  [0, 1], [1, 3], [3, 2], [2, 0], [4, 5], [5, 7], [7, 6], [6, 4], [0, 4], [1, 5], [2, 6], [3, 7],
] as const; // prettier-ignore

function seenOn(camera: RoomCamera, frame: number, mapping: Mapping, p: V3): Point | null {
  const at = camera.project(frame, p);
  return at && toScreen(mapping, at);
}
