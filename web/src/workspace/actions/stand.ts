import { useCallback } from "react";
import { type Asset, type Landing, type Shot, answered, api } from "~/api/client";
import { complain, mention } from "~/ui/Notices";
import { spotAt, standing } from "~/workspace/actions/camera";
import { freshPlace } from "~/workspace/actions/front";
import { type LightSoon, useLightLater, useSetLight, useSetShadow } from "~/workspace/actions/light";
import { filmedIn, targetFor } from "~/workspace/actions/models";
import { by, length, minus, plus, type RoomCamera, type V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { allLayers, freshName, freshShotId, round } from "~/workspace/patches";
import { useCameras } from "~/workspace/spaces";
import { clipFrame } from "~/workspace/time";
import { act, useWorkspace } from "~/workspace/store";

export const NO_ROOM =
  "This stands in a solved room. Follow the camera, or a thing by its form, and measure it first.";

export const followOf = (target: string | null, frame: number, perspective: boolean) => ({
  target,
  reference_frame: frame,
  shift: true,
  turn: true,
  size: true,
  perspective,
  hidden: true,
  inverted: false,
  smooth: 0,
});

/** A room to put something into; a chosen perch that faces one way in it takes it on its own flat wall. */
interface InRoom {
  motion: string;
  surface: string | null;
}

function roomFor(shot: Shot, cameras: Map<string, RoomCamera>): (InRoom & { camera: RoomCamera }) | null {
  const target = targetFor(shot);
  const perch = shot.perches.find((p) => p.id === target);
  const motion = perch?.spot ? perch.follow.target : target;
  const camera = motion ? cameras.get(motion) : undefined;
  if (!motion || !camera?.full) return null;
  return { motion, camera, surface: perch?.spot?.faces === "still" ? perch.id : null };
}

/** What a click on the picture meets in a room: its ground, what is really there, a model. */
export function useLanding() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (
      room: InRoom,
      frame: number,
      at: Point,
      without: string | null = null,
    ): Promise<Landing | null> => {
      try {
        return await answered(
          api.POST("/api/shots/{shot_id}/motions/{motion_id}/landing", {
            params: { path: { shot_id: shotId, motion_id: room.motion } },
            body: {
              frame,
              pixel: [at.x, at.y],
              surface: room.surface,
              without,
            },
          }),
        );
      } catch (error) {
        complain(error instanceof Error ? error.message : String(error));
        return null;
      }
    },
    [shotId],
  );
}

/** Where something new is put: the place that a click lands on, or, in the sky, three metres off. */
function useLanded() {
  const { record } = useOpenShot();
  const cameras = useCameras();
  const land = useLanding();
  return useCallback(
    async (frame: number, click: Point): Promise<Landed | null> => {
      const room = roomFor(record.document, cameras);
      if (!room) {
        complain(NO_ROOM);
        return null;
      }
      const found = await land(room, frame, click);
      if (!found) return null;
      const eye = room.camera.eye(frame);
      const place: V3 = found.place ?? plus(eye, by(room.camera.ray(frame, click), 3));
      return {
        ...room,
        place,
        on: found.on,
        normal: found.normal as V3 | null,
        away: length(minus(place, eye)),
      };
    },
    [record, cameras, land],
  );
}

/**
 * Where something that throws a shadow stands: on the ground its spot is where it landed; on another thing the spot stays
 * on the ground, which takes the shadow, and the thing is lifted.
 */
const lifted = (place: V3, on: string | null): { foot: V3; lift: number } =>
  on === null ? { foot: place, lift: 0 } : { foot: [place[0], 0, place[2]], lift: round4(place[1]) };

/** How much of what faces up there is, at the most, in what a wall faces. */
const WALL = 0.5;

const round4 = (v: number) => Math.round(v * 1e4) / 1e4;

interface Landed extends InRoom {
  camera: RoomCamera;
  place: V3;
  on: string | null;
  /** Which way the footage's surface there faces, where it is known. */
  normal: V3 | null;
  away: number;
}

/** How flat something lies on what faces that way; null: that is no wall, things stand on it. */
function onWall(normal: V3 | null): { heading: number; tilt: number } | null {
  if (!normal || Math.abs(normal[1]) > WALL) return null;
  const degrees = (radians: number) => Math.round((radians * 18000) / Math.PI) / 100;
  return { heading: degrees(Math.atan2(normal[0], normal[2])), tilt: degrees(Math.asin(normal[1])) };
}

/** What is put where a click lands: its layer, where its spot is, and whether that turns to the camera. */
interface Standing {
  layer: Record<string, unknown>;
  foot: V3;
  faces: "still" | "upright";
  /** On a wall: how that lies. */
  turned?: { heading: number; tilt: number } | null;
  /** The light of the set, where that is not known yet. */
  later?: LightSoon["later"];
}

/** Put something on a perch of its own where a click lands, as one step, and choose it. */
function usePutDown() {
  const { record, edits } = useOpenShot();
  const landed = useLanded();
  const lightLater = useLightLater();
  return useCallback(
    async (
      called: string,
      click: Point,
      frame: number,
      make: (at: Landed) => Standing | Promise<Standing>,
    ) => {
      const at = await landed(frame, click);
      if (!at) return;
      const shot = record.document;
      const { layer, foot, faces, turned, later = null } = await make(at);
      const perch = {
        id: freshShotId("perch", shot),
        name: freshName(`${called} stands here`.slice(0, 100), shot.perches),
        x: 0,
        y: 0,
        spot: { ...spotAt(at.camera, frame, foot, "upright"), faces, ...turned },
        follow: followOf(at.motion, clipFrame(shot.footage, frame), true),
      };
      const id = freshShotId("layer", shot);
      const name = freshName(called, allLayers(shot));
      const done = await edits.edit(`Plonk ${name}`, [
        { op: "add", path: "/perches/-", value: perch },
        {
          op: "add",
          path: freshPlace(shot, useWorkspace.getState().chosen),
          value: { ...layer, id, name, follow: followOf(perch.id, clipFrame(shot.footage, frame), true) },
        },
      ]);
      if (!done) return;
      act({ do: "choose", chosen: { kind: "layer", id } });
      void lightLater(id, frame, later);
    },
    [record, edits, landed, lightLater],
  );
}

/** A model where a click lands, lit as the others of its room, or else as the set is. */
export function useStandModel() {
  const { record } = useOpenShot();
  const put = usePutDown();
  const setLight = useSetLight();
  return useCallback(
    (asset: Asset, click: Point, frame: number) =>
      put(asset.name, click, frame, async (at) => {
        const { foot, lift } = lifted(at.place, at.on);
        // One room has one sun.
        const other = filmedIn(record.document, at.motion).at(-1)?.id ?? null;
        const light = other ? null : await setLight(at.motion);
        if (light?.now) mention(light.now.says);
        const layer = {
          kind: "model",
          asset: asset.digest,
          extent: asset.extent,
          tall: round4(0.18 * at.away),
          lift,
          ...light?.now?.model,
          lit_like: other,
        };
        return { layer, foot, faces: "still", later: light?.later };
      }),
    [record, put, setLight],
  );
}

/** A picture that stands by its foot where a click lands, turned to the camera; or lies flat on a wall that was measured. */
export function useStandPicture() {
  const { record } = useOpenShot();
  const put = usePutDown();
  const setShadow = useSetShadow();
  return useCallback(
    (asset: Asset, click: Point, frame: number) =>
      put(asset.name, click, frame, async (at) => {
        const size = standing(asset.height, record.document.footage!.height);
        const spot = spotAt(at.camera, frame, at.place, "upright");
        const tall = (((asset.height * size) / 100) * spot.pixel_mm) / 1000;
        const turned = onWall(at.normal);
        const light = turned ? null : await setShadow(at.motion, frame, at.place, tall);
        const shadow = light?.now?.shadow;
        const layer = {
          looks: shadow ? [shadow] : [],
          kind: "still",
          asset: asset.digest,
          width: asset.width,
          height: asset.height,
          ...asset.settings,
          x: 0,
          y: turned ? 0 : round((-asset.height * size) / 200),
          size,
        };
        return { layer, foot: at.place, faces: turned ? "still" : "upright", turned, later: light?.later };
      }),
    [record, put, setShadow],
  );
}

export type Stand = "lamp" | "holdout" | "projected" | "breaking" | "relief";
const STAND_NAMES: Record<Stand, string> = {
  lamp: "Lamp",
  holdout: "Really there",
  projected: "Projected plate",
  breaking: "Breaking",
  relief: "Relief",
};

/** A part of a floor or wall that was filmed, to be worked on from a frame on. */
const worked = (kind: "breaking" | "relief", extent: number, frame: number) => {
  const size = Math.max(0.001, Math.round(extent * 1000) / 1000);
  const part = { kind, wide: size, deep: size, from_frame: frame };
  const fine = (share: number) => Math.max(0.001, round4(share * size));
  return kind === "breaking"
    ? { ...part, falls_from: frame, thick: fine(0.06), hollow: fine(0.8), gap: fine(0.008) }
    : { ...part, height: fine(0.12), across: fine(0.3) };
};

/** What a stand is, so large that it takes a fifth of the picture at its place. */
function standOf(
  kind: Exclude<Stand, "breaking" | "relief">,
  extent: number,
  frame: number,
  lift: number,
): Record<string, unknown> {
  const size = Math.max(0.001, Math.round(extent * 1000) / 1000);
  if (kind === "lamp")
    return { kind: "lamp", lift: round4(lift + size * 2), wide: size, tall: Math.round(size * 750) / 1000 };
  if (kind === "holdout") return { kind: "form", use: "holdout", lift, wide: size, tall: size, deep: size };
  return {
    kind: "form",
    use: "plate",
    shape: "plane",
    lift,
    wide: 2 * size,
    deep: 2 * size,
    frames: [frame],
  };
}

/** A lamp, something that is really there, or a surface for the plate, where a click lands. */
export function useStand() {
  const { record } = useOpenShot();
  const put = usePutDown();
  const setLight = useSetLight();
  return useCallback(
    (kind: Stand, click: Point, frame: number) =>
      put(STAND_NAMES[kind], click, frame, async (at) => {
        if (kind === "breaking" || kind === "relief") {
          const turned = onWall(at.normal);
          const other = filmedIn(record.document, at.motion).at(-1)?.id ?? null;
          const light = other ? null : await setLight(at.motion);
          const layer = {
            ...worked(kind, 0.35 * at.away, frame),
            on: turned ? "wall" : "floor",
            ...light?.now?.model,
            lit_like: other,
          };
          return { layer, foot: at.place, faces: "still", turned, later: light?.later };
        }
        const { foot, lift } = lifted(at.place, at.on);
        return { layer: standOf(kind, 0.2 * at.away, frame, lift), foot, faces: "still" };
      }),
    [record, put, setLight],
  );
}
