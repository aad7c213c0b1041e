import { useShallow } from "zustand/react/shallow";
import { useQueries, useQuery } from "@tanstack/react-query";
import { createContext, useContext, useMemo } from "react";
import type {
  Follow,
  GeneratedLayer,
  Motion,
  Num,
  Perch,
  PlacedLayer,
  PlaneMotion,
  RoomMotion,
  SpacesAnswer,
} from "~/api/client";
import { measurementQuery, viewQuery } from "~/api/queries";
import { spacesQuery } from "~/api/spaces";
import { type RoomCamera, roomCamera, solveAt } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { has } from "~/workspace/kinds";
import { allLayers } from "~/workspace/patches";
import { useWorkspace, viewOf } from "~/workspace/store";
import { lengthOf, momentOf } from "~/workspace/time";
import {
  apply,
  carried,
  IDENTITY,
  invert,
  type Matrix,
  type Point,
  rowAt,
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

const keyOf = (id: string, reference: number, smooth: number, inverted: boolean) =>
  `${id}:${reference}:${smooth}:${inverted}`;

/** What was last known of each shot's spaces: shown until a new answer is here, so that handles do not jump. */
const lastKnown = new Map<string, SpacesAnswer>();

/** Whether the held picture is shown and worked on, where the movement is given back later. */
export function useWorked(): boolean {
  const { record } = useOpenShot();
  const { worked, view } = useWorkspace(useShallow((w) => ({ worked: w.worked, view: viewOf(w.shown) })));
  return (
    worked &&
    view === "final" &&
    record.document.plate.some((t) => t.kind === "steady" && t.shown && t.give_back)
  );
}

/** From the clip's pixels to those of the picture that is shown, per frame; null where the plate is as it was filmed. */
export function useView(): ((frame: number) => Matrix) | null {
  const worked = useWorked();
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const view = useViewRows(worked ? "held" : "matrices");
  return useMemo(() => view && ((frame) => view(momentOf(footage, frame))), [view, footage]);
}

/** The same for the picture on which things that follow nothing stay put. */
function useScreen(): ((moment: number) => Matrix) | null {
  const given = useViewRows("matrices");
  const held = useViewRows("held");
  return held ?? given;
}

/** By moments of the clip. */
function useViewRows(which: "matrices" | "held"): ((moment: number) => Matrix) | null {
  const { record } = useOpenShot();
  const treated = record.document.plate.some((p) => p.shown);
  const { data } = useQuery({
    ...viewQuery(record),
    placeholderData: (before) => before,
  });
  const rows = treated ? data?.[which] : undefined;
  return useMemo(() => (rows?.length ? (moment) => rowAt(rows, moment) : null), [rows]);
}

/** Whether a motion solves a room in which things stand. */
export const solves = (m: Motion): m is RoomMotion => has("motion", m, "room");

function useCamerasNow(): Map<string, RoomCamera> {
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
      if (!data?.camera || !footage) return;
      const size = { w: footage.width, h: footage.height };
      if (!footage.time) out.set(m.id, roomCamera(m, data.camera, data.frames, size));
      else {
        const moments = Array.from({ length: lengthOf(footage) }, (_, f) => momentOf(footage, f));
        out.set(m.id, roomCamera(m, solveAt(data.camera, moments), moments.length, size));
      }
    });
    return out;
  }, [solved, found, footage]);
}

function useSpacesNow(): Spaces {
  const { record, shotId, filmed } = useOpenShot();
  const shot = record.document;
  const footage = shot.footage;
  const view = useScreen();
  const { data } = useQuery(spacesQuery(shotId, record.number, record.spaces, filmed));
  const of = `${shotId} ${filmed}`;
  if (data) lastKnown.set(of, data);
  const answer = data ?? lastKnown.get(of);
  return useMemo(() => {
    const measured = new Set(shot.motions.filter((m) => m.measurement).map((m) => m.id));
    const byKey = new Map(
      (answer?.movements ?? [])
        .filter((m) => measured.has(m.motion))
        .map((m) => [keyOf(m.motion, m.reference_frame, m.smooth, m.inverted), m.rows]),
    );
    const spots = new Map((answer?.spots ?? []).map((s) => [s.perch, s.rows]));
    const path = (
      id: string,
      reference: number,
      smooth: number,
      inverted: boolean,
      moment: number,
    ): Matrix => {
      const rows = byKey.get(keyOf(id, reference, smooth, inverted));
      return rows?.length ? rowAt(rows, moment) : IDENTITY;
    };
    // Movements and reference frames are the clip's, numbers and spots the shot's.
    const ofAt = (follow: Follow, frame: number, moment: number): Matrix => {
      // What follows nothing stays put on the screen.
      if (!follow.target) return view ? invert(view(moment)) : IDENTITY;
      const perch = shot.perches.find((p) => p.id === follow.target);
      if (perch) return perchAt(perch, frame, moment);
      return path(follow.target, follow.reference_frame, follow.smooth, follow.inverted, moment);
    };
    const placedAt = (follow: Follow, frame: number, moment: number, at: Point): Matrix => {
      const moved = ofAt(follow, frame, moment);
      const home = follow.reference_frame;
      return carried(follow, moved, follow.shift ? moved : ofAt(follow, home, home), at);
    };
    const perchAt = (perch: Perch, frame: number, moment: number): Matrix => {
      const rows = perch.spot ? spots.get(perch.id) : undefined;
      if (rows?.length) return times(rows[Math.min(frame, rows.length - 1)]!, seated(perch, frame));
      const at = { x: valueAt(perch.x, frame), y: valueAt(perch.y, frame) };
      return times(placedAt(perch.follow, frame, moment, at), seated(perch, frame));
    };
    return {
      of: (follow, frame) => ofAt(follow, frame, momentOf(footage, frame)),
      placed: (follow, frame, at) => placedAt(follow, frame, momentOf(footage, frame), at),
      perch: (perch, frame) => perchAt(perch, frame, momentOf(footage, frame)),
      plane: (motion, frame) => path(motion.id, motion.reference_frame, 0, false, momentOf(footage, frame)),
    };
  }, [answer, shot.motions, shot.perches, view, footage]);
}

interface Where {
  spaces: Spaces;
  cameras: Map<string, RoomCamera>;
}

/** Where everything is, worked out once for the whole workspace. */
export const WhereContext = createContext<Where | null>(null);

/** What `WhereContext` holds, from the open shot. */
export function useWhere(): Where {
  const spaces = useSpacesNow();
  const cameras = useCamerasNow();
  return useMemo(() => ({ spaces, cameras }), [spaces, cameras]);
}

function useWhereGiven(): Where {
  const where = useContext(WhereContext);
  if (!where) throw new Error("spaces outside a workspace");
  return where;
}

export const useSpaces = (): Spaces => useWhereGiven().spaces;

/** The solved cameras of the shot in their rooms, by motion. */
export const useCameras = (): Map<string, RoomCamera> => useWhereGiven().cameras;

/** All of a motion's movement from a frame on, for outlines that ride on it. */
export const riding = (target: string | null, reference_frame: number): Follow => ({
  target,
  reference_frame,
  shift: true,
  turn: true,
  size: true,
  perspective: true,
  hidden: true,
  inverted: false,
  smooth: 0,
});

/** How large a generated element's handles are: it has no picture of its own. */
const NOMINAL = 220;

const hasPicture = (layer: PlacedLayer): layer is Exclude<PlacedLayer, GeneratedLayer> => "width" in layer;

/** The size of a layer's own picture. */
export const ownSize = (layer: PlacedLayer): { width: number; height: number } =>
  hasPicture(layer) ? layer : { width: NOMINAL, height: NOMINAL };

/** What a layer turns and grows about, in its own pixels. */
export function anchorOf(layer: PlacedLayer, frame: number): Point {
  const { width, height } = ownSize(layer);
  if (!hasPicture(layer)) return { x: width / 2, y: height / 2 };
  return {
    x: (width * valueAt(layer.anchor_x, frame)) / 100,
    y: (height * valueAt(layer.anchor_y, frame)) / 100,
  };
}

/** From a layer's own pixels to the frame's pixels, as the core's `frame_from_own`. */
export function frameFromOwn(layer: PlacedLayer, spaces: Spaces, frame: number): Matrix {
  const at = { x: valueAt(layer.x, frame), y: valueAt(layer.y, frame) };
  const anchor = anchorOf(layer, frame);
  const seat = times(seated(layer, frame), shifted(-anchor.x, -anchor.y));
  return times(spaces.placed(layer.follow, frame, at), seat);
}

/** The same for pixels that masks drawn on the layer's own picture have. */
export function frameFromPicture(layer: PlacedLayer, spaces: Spaces, frame: number): Matrix {
  const own = frameFromOwn(layer, spaces, frame);
  if (!hasPicture(layer)) return times(own, shifted(NOMINAL / 2, NOMINAL / 2));
  if (!("mirror" in layer) || layer.mirror === "no") return own;
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
