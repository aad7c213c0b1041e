import type {
  DeliveryFrame,
  Layer,
  FilmedLayer,
  Motion,
  PatchStep,
  Perch,
  Shot,
  StandingLayer,
  PlacedLayer,
} from "~/api/client";
import { has } from "~/workspace/kinds";

const indexOf = (list: { id: string }[], id: string) => list.findIndex((x) => x.id === id);

/** Steps that guard a list item by its id, so that a patch never hits another one. */
const guard = (path: string, id: string): PatchStep => ({ op: "test", path: `${path}/id`, value: id });

function setOn(list: string, at: number, id: string, values: object): PatchStep[] {
  const path = `/${list}/${at}`;
  const steps = Object.entries(values).map(([key, value]) => ({
    op: "replace" as const,
    path: `${path}/${key}`,
    value: value as unknown,
  }));
  return [guard(path, id), ...steps];
}

/** A layer's values; which of them fit its kind, the server checks. */
export type LayerValues = Partial<Record<string, unknown>> & object;

/** All layers, those in parcels too. */
export const allLayers = (shot: Shot): Layer[] => [...shot.stack, ...shot.parcels.flatMap((p) => p.stack)];
export const findLayer = (shot: Shot, id: string): Layer | undefined =>
  allLayers(shot).find((l) => l.id === id);

/** The list that a layer lies in, and where in it. */
export function placeOf(shot: Shot, id: string): { list: string; at: number; stack: Layer[] } {
  const inside = shot.parcels.findIndex((p) => indexOf(p.stack, id) >= 0);
  const stack = inside < 0 ? shot.stack : shot.parcels[inside]!.stack;
  return { list: inside < 0 ? "stack" : `parcels/${inside}/stack`, at: indexOf(stack, id), stack };
}

export function setOnLayer(shot: Shot, id: string, values: LayerValues): PatchStep[] {
  const { list, at } = placeOf(shot, id);
  return setOn(list, at, id, values);
}

export const setOnMotion = (
  shot: Shot,
  id: string,
  values: Partial<Record<keyof Motion | string, unknown>>,
) => setOn("motions", indexOf(shot.motions, id), id, values);

export const setOnPerch = (shot: Shot, id: string, values: Partial<Perch>): PatchStep[] =>
  setOn("perches", indexOf(shot.perches, id), id, values);

export const setOnFrame = (shot: Shot, id: string, values: Partial<DeliveryFrame>): PatchStep[] =>
  setOn("frames", indexOf(shot.frames, id), id, values);

export const setOnThing = (list: "stack" | "plate", shot: Shot, id: string, values: object): PatchStep[] =>
  list === "stack" ? setOnLayer(shot, id, values) : setOn(list, indexOf(shot[list], id), id, values);

export const setOnPlate = (shot: Shot, id: string, values: object): PatchStep[] =>
  setOn("plate", indexOf(shot.plate, id), id, values);

/** The sun and sky of what is filmed. */
export const lightOf = (m: FilmedLayer) => ({
  sun: m.sun,
  sun_heading: m.sun_heading,
  sun_height: m.sun_height,
  sun_soft: m.sun_soft,
  sun_warm: m.sun_warm,
  sun_colour: m.sun_colour,
  sky: m.sky,
  sky_colour: m.sky_colour,
  lit_like: m.lit_like ?? null,
});

/** Size and place of a layer that is as large as the shot. */
export const wholePicture = (shot: Shot) => {
  const [width, height] = [shot.footage?.width ?? 1280, shot.footage?.height ?? 720];
  return { width, height, x: width / 2, y: height / 2 };
};

/** Set a point by hand at a frame. */
export function givePoint(
  shot: Shot,
  motionId: string,
  pointId: string,
  frame: number,
  x: number,
  y: number,
): PatchStep[] {
  const m = indexOf(shot.motions, motionId);
  const motion = shot.motions[m]!;
  if (motion.kind !== "points") return [];
  const p = indexOf(motion.points, pointId);
  const point = motion.points[p]!;
  const given = [...point.given.filter((g) => g.frame !== frame), { frame, x: round(x), y: round(y) }].sort(
    (a, b) => a.frame - b.frame,
  );
  return [
    guard(`/motions/${m}`, motionId),
    guard(`/motions/${m}/points/${p}`, pointId),
    { op: "replace", path: `/motions/${m}/points/${p}/given`, value: given },
  ];
}

export const round = (v: number) => Math.round(v * 1000) / 1000;

/** An id that nothing in the shot has yet. */
export const freshShotId = (prefix: string, shot: Shot): string =>
  freshId(prefix, [
    ...shot.motions,
    ...shot.perches,
    ...shot.plate,
    ...allLayers(shot),
    ...shot.parcels,
    ...shot.finish,
    ...shot.frames,
    ...shot.markers,
    ...shot.sounds,
  ]);

export function freshId(prefix: string, taken: { id: string }[]): string {
  for (let k = 1; ; k++) {
    const id = `${prefix}-${k}`;
    if (!taken.some((t) => t.id === id)) return id;
  }
}

export function freshName(name: string, taken: { name: string }[]): string {
  if (!taken.some((t) => t.name === name)) return name;
  for (let k = 2; ; k++) if (!taken.some((t) => t.name === `${name} ${k}`)) return `${name} ${k}`;
}

/** Whether a layer is placed by x, y, turn and size of its own. */
export const isPlaced = (layer: Layer | null | undefined): layer is PlacedLayer =>
  has("layer", layer, "placed");

/** Whether a layer stands on a spot of a room, with handles of its own. */
export const stands = (layer: Layer): layer is StandingLayer => has("layer", layer, "standing");
