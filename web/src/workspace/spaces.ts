import { useQueries, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import type { Follow, Motion, Num, Perch, PlacedLayer, PlaneMotion, RoomMotion, Shot } from "~/api/client";
import { measurementQuery, movementQuery, viewQuery } from "~/api/queries";
import { type RoomCamera, roomCamera, spotMatrix } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { allLayers } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import {
  apply,
  carried,
  IDENTITY,
  invert,
  type Matrix,
  type Point,
  shifted,
  times,
  turnedSized,
  valueAt,
} from "~/workspace/geometry";

/** Where followers are: the browser's copy of the core's `Spaces`, for handles. */
export interface Spaces {
  /** From a follower's space to the frame: all of its target's movement. */
  of: (follow: Follow, frame: number) => Matrix;
  /** The parts of it that a thing at a spot takes. */
  placed: (follow: Follow, frame: number, at: Point) => Matrix;
  /** From a perch's own space to the frame. */
  perch: (perch: Perch, frame: number) => Matrix;
  /** From a plane's reference-frame pixels to the frame. */
  plane: (motion: PlaneMotion, frame: number) => Matrix;
}

interface Seated {
  x: Num;
  y: Num;
  turn: Num;
  size: Num;
}

/** From a thing's own pixels about its middle to its space. */
export const seated = (thing: Seated, frame: number): Matrix =>
  times(
    shifted(valueAt(thing.x, frame), valueAt(thing.y, frame)),
    turnedSized(valueAt(thing.turn, frame), valueAt(thing.size, frame) / 100),
  );

interface Wanted {
  motion: Motion;
  reference: number;
  smooth: number;
  inverted: boolean;
}

const keyOf = (id: string, reference: number, smooth: number, inverted: boolean) =>
  `${id}:${reference}:${smooth}:${inverted}`;

function wantedBy(shot: Shot): Map<string, Wanted> {
  const out = new Map<string, Wanted>();
  const want = (id: string, reference: number, smooth: number, inverted: boolean) => {
    const motion = shot.motions.find((m) => m.id === id);
    if (motion) out.set(keyOf(id, reference, smooth, inverted), { motion, reference, smooth, inverted });
  };
  const follows = [
    ...shot.perches.map((p) => p.follow),
    ...allLayers(shot).flatMap((l) => ("follow" in l ? [l.follow] : [])),
  ];
  for (const f of follows) if (f.target) want(f.target, f.reference_frame, f.smooth, f.inverted);
  for (const look of [...shot.finish, ...allLayers(shot).flatMap((l) => l.looks)])
    if ("rides" in look && look.rides.startsWith("to:"))
      want(look.rides.slice(3), look.reference_frame, 0, false);
  for (const thing of [...shot.plate, ...allLayers(shot)])
    for (const mask of "masks" in thing ? thing.masks : [])
      if (mask.rides.startsWith("to:")) want(mask.rides.slice(3), mask.reference_frame, 0, false);
  for (const m of shot.motions) {
    if (m.kind === "plane") want(m.id, m.reference_frame, 0, false);
    if (!("regions" in m)) continue;
    for (const r of m.regions)
      if (r.follow.startsWith("motion:")) want(r.follow.slice("motion:".length), m.reference_frame, 0, false);
  }
  return out;
}

/** What was last known of each movement: shown until a new answer is here, so that handles do not jump. */
const lastKnown = new Map<string, number[][]>();

/** Whether the held picture is shown and worked on, where the movement is given back later. */
export function useWorked(): boolean {
  const { record } = useOpenShot();
  const { worked, view } = useWorkspace();
  return (
    worked &&
    view === "final" &&
    record.document.plate.some((t) => t.kind === "steady" && t.shown && t.give_back)
  );
}

/** From the clip's pixels to those of the picture that is shown, per frame; null where the plate is as it was filmed. */
export function useView(): ((frame: number) => Matrix) | null {
  const worked = useWorked();
  return useViewRows(worked ? "held" : "matrices");
}

/** The same for the picture on which things that follow nothing stay put. */
function useScreen(): ((frame: number) => Matrix) | null {
  const given = useViewRows("matrices");
  const held = useViewRows("held");
  return held ?? given;
}

function useViewRows(which: "matrices" | "held"): ((frame: number) => Matrix) | null {
  const { record, shotId } = useOpenShot();
  const treated = record.document.plate.some((p) => p.shown);
  const { data } = useQuery({
    ...viewQuery(shotId, record.number, record.document),
    placeholderData: (before) => before,
  });
  const rows = treated ? data?.[which] : undefined;
  return useMemo(() => (rows?.length ? (frame) => rows[Math.min(frame, rows.length - 1)]! : null), [rows]);
}

/** Whether a motion solves a room in which things stand. */
export const solves = (m: Motion): m is RoomMotion =>
  m.kind === "camera" || m.kind === "object" || m.kind === "form";

/** The solved cameras of the shot in their rooms, by motion. */
export function useCameras(): Map<string, RoomCamera> {
  const { record } = useOpenShot();
  const { motions, footage } = record.document;
  const solved = useMemo(
    () => motions.filter((m): m is RoomMotion => solves(m) && m.measurement !== null),
    [motions],
  );
  const found = useQueries({
    queries: solved.map((m) => measurementQuery(m.measurement)),
    combine: (results) => results.map((r) => r.data),
  });
  return useMemo(() => {
    const out = new Map<string, RoomCamera>();
    solved.forEach((m, k) => {
      const data = found[k];
      if (data?.camera && footage)
        out.set(m.id, roomCamera(m, data.camera, data.frames, { w: footage.width, h: footage.height }));
    });
    return out;
  }, [solved, found, footage]);
}

export function useSpaces(): Spaces {
  const { record, shotId } = useOpenShot();
  const shot = record.document;
  const view = useScreen();
  const wanted = useMemo(() => [...wantedBy(shot).entries()], [shot]);
  const paths = useQueries({
    queries: wanted.map(([, w]) =>
      movementQuery(shotId, record.number, w.motion, w.reference, w.smooth, w.inverted),
    ),
    combine: (results) => results.map((r) => r.data),
  });
  const cameras = useCameras();
  return useMemo(() => {
    const byKey = new Map(
      wanted.map(([key, w], k) => {
        const place = `${shotId}:${key}`;
        if (paths[k]) lastKnown.set(place, paths[k]);
        return [key, w.motion.measurement ? (paths[k] ?? lastKnown.get(place)) : undefined];
      }),
    );
    const path = (
      id: string,
      reference: number,
      smooth: number,
      inverted: boolean,
      frame: number,
    ): Matrix => {
      const rows = byKey.get(keyOf(id, reference, smooth, inverted));
      return rows?.length ? rows[Math.min(frame, rows.length - 1)]! : IDENTITY;
    };
    const of = (follow: Follow, frame: number): Matrix => {
      // What follows nothing stays put on the screen.
      if (!follow.target) return view ? invert(view(frame)) : IDENTITY;
      const perch = shot.perches.find((p) => p.id === follow.target);
      if (perch) return perchMatrix(perch, frame);
      return path(follow.target, follow.reference_frame, follow.smooth, follow.inverted, frame);
    };
    const placed = (follow: Follow, frame: number, at: Point): Matrix => {
      const moved = of(follow, frame);
      return carried(follow, moved, follow.shift ? moved : of(follow, follow.reference_frame), at);
    };
    const perchMatrix = (perch: Perch, frame: number): Matrix => {
      const camera = perch.spot ? cameras.get(perch.follow.target ?? "") : undefined;
      if (perch.spot && camera) return times(spotMatrix(camera, perch.spot, frame), seated(perch, frame));
      const at = { x: valueAt(perch.x, frame), y: valueAt(perch.y, frame) };
      return times(placed(perch.follow, frame, at), seated(perch, frame));
    };
    const plane = (motion: PlaneMotion, frame: number) =>
      path(motion.id, motion.reference_frame, 0, false, frame);
    return { of, placed, perch: perchMatrix, plane };
  }, [shotId, wanted, paths, shot.perches, view, cameras]);
}

/** All of a motion's movement from a frame on, for outlines that ride on it. */
export const riding = (target: string | null, reference_frame: number): Follow => ({
  target,
  reference_frame,
  shift: true,
  turn: true,
  size: true,
  perspective: true,
  inverted: false,
  smooth: 0,
});

/** How large a generated element's handles are: it has no picture of its own. */
const NOMINAL = 220;

/** The size of a layer's own picture. */
export const ownSize = (layer: PlacedLayer): { width: number; height: number } =>
  layer.kind === "generated" ? { width: NOMINAL, height: NOMINAL } : layer;

/** From a layer's own pixels to the frame's pixels, as the core's `frame_from_own`. */
export function frameFromOwn(layer: PlacedLayer, spaces: Spaces, frame: number): Matrix {
  const at = { x: valueAt(layer.x, frame), y: valueAt(layer.y, frame) };
  const { width, height } = ownSize(layer);
  const generated = layer.kind === "generated";
  const ax = generated ? 0.5 : valueAt(layer.anchor_x, frame) / 100;
  const ay = generated ? 0.5 : valueAt(layer.anchor_y, frame) / 100;
  const seat = times(seated(layer, frame), shifted(-width * ax, -height * ay));
  return times(spaces.placed(layer.follow, frame, at), seat);
}

/** The same for pixels that masks drawn on the layer's own picture have. */
export function frameFromPicture(layer: PlacedLayer, spaces: Spaces, frame: number): Matrix {
  const own = frameFromOwn(layer, spaces, frame);
  if (layer.kind === "generated") return times(own, shifted(NOMINAL / 2, NOMINAL / 2));
  if (layer.kind !== "still" || layer.mirror === "no") return own;
  const [across, down] = [layer.mirror !== "down", layer.mirror !== "across"];
  return times(own, [
    across ? -1 : 1,
    0,
    across ? layer.width : 0,
    0,
    down ? -1 : 1,
    down ? layer.height : 0,
    0,
    0,
    1,
  ]);
}

/** The pixel of a follower's space that lies at `p` in `frame`. */
export function toSpace(follow: Follow, spaces: Spaces, frame: number, p: Point): Point {
  if (follow.shift || follow.perspective) return apply(invert(spaces.of(follow, frame)), p);
  return apply(invert(spaces.of(follow, follow.reference_frame)), p);
}

/** From the pixels of the parcel that a layer lies in to the frame's, where the parcel is first shown; null outside parcels. */
export function useParcelMatrix(layer: string | null): Matrix | null {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const parcel = record.document.parcels.find((p) => p.stack.some((l) => l.id === layer));
  const shows = allLayers(record.document).find((l) => l.kind === "parcel" && l.parcel === parcel?.id);
  return parcel && shows?.kind === "parcel" ? frameFromOwn(shows, spaces, frame) : null;
}
