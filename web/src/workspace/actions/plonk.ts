import { useCallback } from "react";
import type { Anchor, Asset, Shot } from "~/api/client";
import { useAssets, useKinds } from "~/api/queries";
import { complain } from "~/ui/Notices";
import { spotAt, standing } from "~/workspace/actions/camera";
import { useDropTug } from "~/workspace/actions/forms";
import { modelsIn, usePivot } from "~/workspace/actions/models";
import { useAddPoint } from "~/workspace/actions/points";
import { usePutInMiddle } from "~/workspace/actions/plate";
import { by, length, minus, onLevel, plus, type RoomCamera } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { allLayers, freshName, freshShotId, round } from "~/workspace/patches";
import { useCameras } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";

/** The motion or perch that something new should follow: the chosen one, or the last measured. */
function targetFor(shot: Shot): string | null {
  const { chosen } = useWorkspace.getState();
  if (chosen.kind === "perch") return chosen.id;
  const measured = shot.motions.filter((m) => m.measurement !== null);
  if (chosen.kind === "motion" && measured.some((m) => m.id === chosen.id)) return chosen.id;
  return measured.at(-1)?.id ?? null;
}

/** A perch where a click meets the ground (or, above the horizon, three metres off), and a picture standing on it. */
function standOn(shot: Shot, camera: RoomCamera, motion: string, frame: number, click: Point, asset: Asset) {
  const eye = camera.eye(frame);
  const place = onLevel(camera, frame, click) ?? plus(eye, by(camera.ray(frame, click), 3));
  const id = freshShotId("perch", shot);
  const perch = {
    id,
    name: freshName(`${asset.name} stands here`.slice(0, 100), shot.perches),
    x: 0,
    y: 0,
    spot: spotAt(camera, frame, place, "upright"),
    follow: followOf(motion, frame, true),
  };
  const size = standing(asset.height, shot.footage!.height);
  return {
    perch,
    layer: { x: 0, y: round((-asset.height * size) / 200), size, follow: followOf(id, frame, true) },
  };
}

const NO_ROOM =
  "This stands in a solved room. Follow the camera, or a thing by its form, and measure it first.";

const followOf = (target: string | null, frame: number, perspective: boolean) => ({
  target,
  reference_frame: frame,
  shift: true,
  turn: true,
  size: true,
  perspective,
  inverted: false,
  smooth: 0,
});

/** Before the kind of what stands in a room without a file, where a tool names what it plonks. */
export const STANDS = "stands:";
export type Stand = "lamp" | "holdout" | "projected";
const STAND_NAMES: Record<Stand, string> = {
  lamp: "Lamp",
  holdout: "Really there",
  projected: "Projected plate",
};

/** What a stand is, so large that it takes a fifth of the picture at its place. */
function standOf(kind: Stand, extent: number, frame: number): Record<string, unknown> {
  const size = Math.max(0.001, Math.round(extent * 1000) / 1000);
  if (kind === "lamp")
    return { kind: "lamp", lift: size * 2, wide: size, tall: Math.round(size * 750) / 1000 };
  if (kind === "holdout") return { kind: "form", use: "holdout", wide: size, tall: size, deep: size };
  return { kind: "form", use: "plate", shape: "plane", wide: 2 * size, deep: 2 * size, frames: [frame] };
}

/** Before the kind of what is generated, where a tool names what it plonks. */
export const GENERATED = "generated:";
/** Those that shine so that they get a glow. */
const SHINES = ["ring", "sparks"];
/** Those that fill the picture: they need no click. */
export const EVERYWHERE = ["rain", "dust", "texture"];

/** Put a new layer in front of all others and choose it. */
export function useAddLayer() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (called: string, values: Record<string, unknown>) => {
      const shot = record.document;
      const id = freshShotId("layer", shot);
      const name = freshName(called, allLayers(shot));
      const value = { ...values, id, name };
      const done = await edits.edit(`Plonk ${name}`, [{ op: "add", path: "/stack/0", value }]);
      if (done) act({ do: "choose", chosen: { kind: "layer", id } });
    },
    [record, edits],
  );
}

/** A light map that lights the room which was chosen or solved last. */
export function useAddDome() {
  const { record } = useOpenShot();
  const cameras = useCameras();
  const add = useAddLayer();
  return useCallback(
    (asset: Asset) => {
      const target = targetFor(record.document);
      const root = record.document.perches.find((p) => p.id === target)?.follow.target ?? target;
      const room = [root, ...[...cameras.keys()].reverse()].find((id) => id && cameras.get(id)?.full);
      if (!room) return complain(NO_ROOM);
      return add(asset.name, { kind: "dome", asset: asset.digest, follow: followOf(room, 0, true) });
    },
    [record, cameras, add],
  );
}

/** What a click in the picture does with the tool in hand. */
export function useClickTool() {
  const { record, edits } = useOpenShot();
  const { data: assets } = useAssets();
  const { data: kinds } = useKinds("generator");
  const addPoint = useAddPoint();
  const addPerch = useAddPerch();
  const toMiddle = usePutInMiddle();
  const cameras = useCameras();
  const plonk = useCallback(
    async (place: Point, onScreen: Point, at: number, asset: Asset, as: "still" | "pin") => {
      const shot = record.document;
      const id = freshShotId("layer", shot);
      const name = freshName(asset.name, allLayers(shot));
      const { chosen } = useWorkspace.getState();
      const planes = shot.motions.filter((m) => m.kind === "plane");
      const shared = { id, name, asset: asset.digest, width: asset.width, height: asset.height };
      let value: Record<string, unknown>;
      const plane =
        planes.find((m) => chosen.kind === "motion" && m.id === chosen.id) ??
        planes.filter((m) => m.measurement).at(-1) ??
        planes.at(-1);
      const target = targetFor(shot);
      const camera = target ? cameras.get(target) : undefined;
      if (asset.kind === "model") {
        const room = camera?.full ? camera : null;
        if (!room || !target) {
          complain(NO_ROOM);
          return;
        }
        const stand = standOn(shot, room, target, at, place, asset);
        const tall =
          0.18 * length(minus([stand.perch.spot.x, stand.perch.spot.y, stand.perch.spot.z], room.eye(at)));
        const layer = {
          kind: "model",
          id,
          name,
          asset: asset.digest,
          extent: asset.extent,
          tall: Math.round(tall * 1e4) / 1e4,
          follow: followOf(stand.perch.id, at, true),
          // One room has one sun.
          lit_like: modelsIn(shot, target).at(-1)?.id ?? null,
        };
        const done = await edits.edit(`Plonk ${name}`, [
          {
            op: "add",
            path: "/perches/-",
            value: { ...stand.perch, spot: { ...stand.perch.spot, faces: "still" } },
          },
          { op: "add", path: "/stack/0", value: layer },
        ]);
        if (done) act({ do: "choose", chosen: { kind: "layer", id } });
        return;
      }
      if (as !== "pin" && camera?.full && shot.footage) {
        // In a solved room it stands on the ground where clicked: a perch there, and the picture on it by its foot.
        const stand = standOn(shot, camera, target!, at, place, asset);
        const done = await edits.edit(`Plonk ${name}`, [
          { op: "add", path: "/perches/-", value: stand.perch },
          {
            op: "add",
            path: "/stack/0",
            value: { kind: "still", ...shared, ...asset.settings, ...stand.layer },
          },
        ]);
        if (done) act({ do: "choose", chosen: { kind: "layer", id } });
        return;
      }
      if (as === "pin" && plane) {
        value = { kind: "pin", ...shared, plane: plane.id };
      } else {
        const perch = shot.perches.find((p) => p.id === target);
        const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
        const spot = target ? place : onScreen;
        value = {
          kind: "still",
          ...shared,
          // On a perch, what is plonked sits where the perch is.
          x: perch ? 0 : round(spot.x),
          y: perch ? 0 : round(spot.y),
          size: suitableSize(asset, shot.footage?.width ?? 1280),
          ...asset.settings,
          follow: followOf(target, at, onPlane),
        };
      }
      const done = await edits.edit(`Plonk ${name}`, [{ op: "add", path: "/stack/0", value }]);
      if (done) act({ do: "choose", chosen: { kind: "layer", id } });
    },
    [record, edits, cameras],
  );
  const stand = useCallback(
    async (kind: Stand, place: Point, at: number) => {
      const shot = record.document;
      const target = targetFor(shot);
      const room = target ? cameras.get(target) : undefined;
      if (!target || !room?.full) return complain(NO_ROOM);
      const eye = room.eye(at);
      const ground = onLevel(room, at, place) ?? plus(eye, by(room.ray(at, place), 3));
      const name = freshName(STAND_NAMES[kind], allLayers(shot));
      const perch = freshShotId("perch", shot);
      const id = freshShotId("layer", shot);
      const done = await edits.edit(`Plonk ${name}`, [
        {
          op: "add",
          path: "/perches/-",
          value: {
            id: perch,
            name: freshName(`${name} stands here`, shot.perches),
            x: 0,
            y: 0,
            spot: { ...spotAt(room, at, ground, "upright"), faces: "still" },
            follow: followOf(target, at, true),
          },
        },
        {
          op: "add",
          path: "/stack/0",
          value: {
            ...standOf(kind, 0.2 * length(minus(ground, eye)), at),
            id,
            name,
            follow: followOf(perch, at, true),
          },
        },
      ]);
      if (done) act({ do: "choose", chosen: { kind: "layer", id } });
    },
    [record, edits, cameras],
  );
  const dropTug = useDropTug();
  const pivot = usePivot();
  const addLayer = useAddLayer();
  const generate = useCallback(
    (kind: string, place: Point, onScreen: Point, at: number) => {
      const shot = record.document;
      const target = targetFor(shot);
      const perch = shot.perches.some((p) => p.id === target);
      const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
      const spot = target ? place : onScreen;
      void addLayer(kinds?.find((k) => k.kind === kind)?.label ?? "Generated", {
        kind: "generated",
        generator: { kind },
        x: perch ? 0 : round(spot.x),
        y: perch ? 0 : round(spot.y),
        follow: followOf(target, at, onPlane),
        looks: SHINES.includes(kind)
          ? [{ kind: "glow", id: "look-1", name: "Glow", radius: 9, strength: 40 }]
          : [],
      });
    },
    [record, kinds, addLayer],
  );
  return useCallback(
    (at: Point, onScreen: Point = at) => {
      const { tool, plonking, plonkAs, frame } = useWorkspace.getState();
      if (tool === "middle") void toMiddle(onScreen);
      if (tool === "add-point") void addPoint(at, frame);
      if (tool === "perch") void addPerch(at, onScreen, frame);
      const { chosen } = useWorkspace.getState();
      const form = record.document.motions.find((m) => chosen.kind === "motion" && m.id === chosen.id);
      if (tool === "pivot" && chosen.kind === "layer") void pivot(chosen.id, frame, at);
      if (tool === "tug" && form?.kind === "form") void dropTug(form, frame, at);
      if (tool === "plonk" && plonking?.startsWith(STANDS))
        void stand(plonking.slice(STANDS.length) as Stand, at, frame);
      if (tool === "plonk" && plonking?.startsWith(GENERATED))
        generate(plonking.slice(GENERATED.length), at, onScreen, frame);
      const asset = tool === "plonk" ? assets?.find((a) => a.digest === plonking) : undefined;
      if (asset) void plonk(at, onScreen, frame, asset, plonkAs);
    },
    [record, assets, addPoint, addPerch, plonk, stand, dropTug, pivot, generate, toMiddle],
  );
}

/** Pin a picture without a click: its place is the plane's quad. */
export function usePlonkPinned() {
  const click = useClickTool();
  return useCallback(
    (asset: string) => {
      act({ do: "tool", tool: "plonk", asset, as: "pin" });
      click({ x: 0, y: 0 });
    },
    [click],
  );
}

const suitableSize = (asset: Asset, width: number) =>
  Math.min(100, Math.round((width * 0.3 * 100) / asset.width));

/** A perch at a spot of the chosen (or last measured) motion. */
function useAddPerch() {
  const { record, edits } = useOpenShot();
  const cameras = useCameras();
  return useCallback(
    async (clicked: Point, onScreen: Point, frame: number) => {
      const shot = record.document;
      const id = freshShotId("perch", shot);
      const name = freshName("Perch", shot.perches);
      const target = targetFor(shot);
      const place = target ? clicked : onScreen;
      const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
      const camera = target ? cameras.get(target) : undefined;
      const ground = camera?.full ? onLevel(camera, frame, clicked) : null;
      const value = {
        id,
        name,
        x: ground ? 0 : round(place.x),
        y: ground ? 0 : round(place.y),
        spot: camera && ground ? spotAt(camera, frame, ground, "upright") : null,
        follow: followOf(
          shot.perches.some((p) => p.id === target) ? null : target,
          frame,
          onPlane || ground !== null,
        ),
      };
      const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/perches/-", value }]);
      if (done) act({ do: "choose", chosen: { kind: "perch", id } });
    },
    [record, edits, cameras],
  );
}

/** A beam between anchors. */
export function useAddBeam() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (anchors: Anchor[]) => {
      const shot = record.document;
      const id = freshShotId("layer", shot);
      const name = freshName("Beam", allLayers(shot));
      const value = { kind: "beam", id, name, anchors };
      const done = await edits.edit(`Draw ${name}`, [{ op: "add", path: "/stack/0", value }]);
      if (done) act({ do: "choose", chosen: { kind: "layer", id } });
    },
    [record, edits],
  );
}
