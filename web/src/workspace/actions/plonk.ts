import { useCallback } from "react";
import type { Anchor, Asset, Shot } from "~/api/client";
import { useAssets, useKinds } from "~/api/queries";
import { complain } from "~/ui/Notices";
import { spotAt } from "~/workspace/actions/camera";
import { freshPlace, isBehind } from "~/workspace/actions/front";
import { useDropTug } from "~/workspace/actions/forms";
import { usePickPoint, usePointAtShadow } from "~/workspace/actions/light";
import { targetFor, usePivot } from "~/workspace/actions/models";
import { useAddPoint } from "~/workspace/actions/points";
import { usePutInMiddle } from "~/workspace/actions/plate";
import {
  followOf,
  NO_ROOM,
  type Stand,
  useLanding,
  useStand,
  useStandModel,
  useStandPicture,
} from "~/workspace/actions/stand";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { kindOf } from "~/workspace/kinds";
import { allLayers, freshName, freshShotId, round, wholePicture } from "~/workspace/patches";
import { useCameras } from "~/workspace/spaces";
import { clipFrame } from "~/workspace/time";
import { act, type Tool, useWorkspace } from "~/workspace/store";
import { chosenOf } from "~/workspace/things";

/** Before the kind of what stands in a room without a file, where a tool names what it plonks. */
export const STANDS = "stands:";
/** Before the kind of what is generated, where a tool names what it plonks. */
export const GENERATED = "generated:";
/** Those that shine so that they get a glow. */
const SHINES = ["ring", "sparks"];
/** Those that fill the picture: they need no click. */
export const EVERYWHERE = ["rain", "dust", "texture"];

/** Put a new layer in front of all others, or behind the footage that is chosen, and choose it. */
export function useAddLayer() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (called: string, values: Record<string, unknown>) => {
      const shot = record.document;
      const id = freshShotId("layer", shot);
      const name = freshName(called, allLayers(shot));
      const value = { ...values, id, name };
      const path = freshPlace(shot, useWorkspace.getState().chosen);
      const done = await edits.edit(`Plonk ${name}`, [{ op: "add", path, value }]);
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
  const standModel = useStandModel();
  const standPicture = useStandPicture();
  const stand = useStand();
  const plonk = useCallback(
    async (place: Point, onScreen: Point, at: number, asset: Asset, as: "still" | "pin") => {
      const shot = record.document;
      const id = freshShotId("layer", shot);
      const name = freshName(asset.name, allLayers(shot));
      const { chosen } = useWorkspace.getState();
      const planes = shot.motions.filter((m) => m.kind === "plane");
      const shared = { id, name, asset: asset.digest, width: asset.width, height: asset.height };
      let value: Record<string, unknown>;
      const path = freshPlace(shot, chosen);
      const plane =
        planes.find((m) => chosen.kind === "motion" && m.id === chosen.id) ??
        planes.filter((m) => m.measurement).at(-1) ??
        planes.at(-1);
      const target = targetFor(shot);
      if (asset.kind === "model") return void standModel(asset, place, at);
      // In a solved room it stands where the click lands: a perch there, and the picture on it by its foot.
      if (as !== "pin" && !isBehind(path) && target && cameras.get(target)?.full)
        return void standPicture(asset, place, at);
      if (as === "pin" && plane) {
        value = { kind: "pin", ...shared, ...OWN_RATE, plane: plane.id };
      } else if (isBehind(path)) {
        value = { kind: "still", ...shared, ...OWN_RATE, ...filling(shot, asset), ...asset.settings };
        value["follow"] = followOf(
          target,
          clipFrame(shot.footage, at),
          shot.motions.find((m) => m.id === target)?.kind === "plane",
        );
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
          ...OWN_RATE,
          ...asset.settings,
          follow: followOf(target, clipFrame(shot.footage, at), onPlane),
        };
      }
      const done = await edits.edit(`Plonk ${name}`, [{ op: "add", path, value }]);
      if (done) act({ do: "choose", chosen: { kind: "layer", id } });
    },
    [record, edits, cameras, standModel, standPicture],
  );
  const dropTug = useDropTug();
  const pivot = usePivot();
  const pointAtShadow = usePointAtShadow();
  const pickPoint = usePickPoint();
  const addLayer = useAddLayer();
  const generate = useCallback(
    (kind: string, place: Point, onScreen: Point, at: number) => {
      const shot = record.document;
      const target = targetFor(shot);
      const stands = shot.perches.find((p) => p.id === target);
      const perch = Boolean(stands);
      // On a spot of a solved room, what can fly there does.
      const roomy =
        stands?.spot && kindOf("generator", kind)?.schema.properties?.["roomy"] ? { roomy: true } : {};
      const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
      const spot = target ? place : onScreen;
      void addLayer(kinds?.find((k) => k.kind === kind)?.label ?? "Generated", {
        kind: "generated",
        generator: { kind, ...roomy },
        x: perch ? 0 : round(spot.x),
        y: perch ? 0 : round(spot.y),
        follow: followOf(target, clipFrame(shot.footage, at), onPlane),
        looks: SHINES.includes(kind)
          ? [{ kind: "glow", id: "look-1", name: "Glow", radius: 9, strength: 40 }]
          : [],
      });
    },
    [record, kinds, addLayer],
  );
  return useCallback(
    (at: Point, onScreen: Point = at) => {
      const { tool, frame, chosen } = useWorkspace.getState();
      const motion = chosenOf(record.document, chosen, "motion");
      const layer = chosen.kind === "layer" ? chosen.id : null;
      const plonked = (what: string, as: "still" | "pin") => {
        if (what.startsWith(STANDS)) return stand(what.slice(STANDS.length) as Stand, at, frame);
        if (what.startsWith(GENERATED)) return generate(what.slice(GENERATED.length), at, onScreen, frame);
        const asset = assets?.find((a) => a.digest === what);
        return asset && plonk(at, onScreen, frame, asset, as);
      };
      const clicks: Partial<Record<Tool["kind"], () => unknown>> = {
        middle: () => toMiddle(onScreen),
        "add-point": () => addPoint(at, frame),
        perch: () => addPerch(at, onScreen, frame),
        pivot: () => layer && pivot(layer, frame, at),
        point: () => pickPoint(frame, onScreen),
        shadow: () => layer && pointAtShadow(layer, frame, at),
        tug: () => motion?.kind === "form" && dropTug(motion, frame, at),
        plonk: () => tool.kind === "plonk" && plonked(tool.what, tool.as),
      };
      void clicks[tool.kind]?.();
    },
    [
      record,
      assets,
      addPoint,
      addPerch,
      plonk,
      stand,
      dropTug,
      pivot,
      pointAtShadow,
      pickPoint,
      generate,
      toMiddle,
    ],
  );
}

/** Plonk a picture without a click: pinned to a plane's quad, or filling the picture behind the footage. */
export function usePlonkAtOnce() {
  const click = useClickTool();
  return useCallback(
    (asset: string, as: "still" | "pin") => {
      act({ do: "tool", tool: { kind: "plonk", what: asset, as } });
      click({ x: 0, y: 0 });
    },
    [click],
  );
}

/** Place and size of a picture that fills the whole one. */
function filling(shot: Shot, asset: Asset) {
  const { width, height, x, y } = wholePicture(shot);
  return {
    x,
    y,
    size: Math.min(1000, Math.ceil(Math.max(width / asset.width, height / asset.height) * 100)),
  };
}

/** A clip runs as it was taken, whatever the shot's rate; a still has no time. */
const OWN_RATE = { pace: "own" };

const suitableSize = (asset: Asset, width: number) =>
  Math.min(100, Math.round((width * 0.3 * 100) / asset.width));

/** A perch at a spot of the chosen (or last measured) motion. */
function useAddPerch() {
  const { record, edits } = useOpenShot();
  const cameras = useCameras();
  const land = useLanding();
  return useCallback(
    async (clicked: Point, onScreen: Point, frame: number) => {
      const shot = record.document;
      const id = freshShotId("perch", shot);
      const name = freshName("Perch", shot.perches);
      const target = targetFor(shot);
      const place = target ? clicked : onScreen;
      const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
      const camera = target ? cameras.get(target) : undefined;
      const ground = camera?.full
        ? ((await land({ motion: target!, surface: null }, frame, clicked))?.place ?? null)
        : null;
      const value = {
        id,
        name,
        x: ground ? 0 : round(place.x),
        y: ground ? 0 : round(place.y),
        spot: camera && ground ? spotAt(camera, frame, ground, "upright") : null,
        follow: followOf(
          shot.perches.some((p) => p.id === target) ? null : target,
          clipFrame(shot.footage, frame),
          onPlane || ground !== null,
        ),
      };
      const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/perches/-", value }]);
      if (done) act({ do: "choose", chosen: { kind: "perch", id } });
    },
    [record, edits, cameras, land],
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
