import type { DeliveryFrame, Layer, Motion, Num, PatchStep, Perch, Shot, Treatment } from "~/api/client";
import {
  findLayer,
  type LayerValues,
  setOnFrame,
  setOnLayer,
  setOnMotion,
  setOnPerch,
  setOnPlate,
} from "~/workspace/patches";
import type { Chosen } from "~/workspace/store";

/** What can be chosen by its id, by the kind of the choice. */
interface Things {
  motion: Motion;
  perch: Perch;
  plate: Treatment;
  layer: Layer;
  frame: DeliveryFrame;
}
export type ThingKind = keyof Things;
export type Thing = Things[ThingKind];

interface Way<T> {
  find: (shot: Shot, id: string) => T | undefined;
  set: (shot: Shot, id: string, values: LayerValues) => PatchStep[];
  /** Whether there can be another one just like it. */
  again: boolean;
}
const among =
  <T extends { id: string }>(list: (shot: Shot) => T[]) =>
  (shot: Shot, id: string) =>
    list(shot).find((one) => one.id === id);

const WAYS: { [K in ThingKind]: Way<Things[K]> } = {
  motion: { find: among((shot) => shot.motions), set: setOnMotion, again: false },
  perch: { find: among((shot) => shot.perches), set: setOnPerch, again: true },
  plate: { find: among((shot) => shot.plate), set: setOnPlate, again: true },
  layer: { find: findLayer, set: setOnLayer, again: true },
  frame: { find: among((shot) => shot.frames), set: setOnFrame, again: true },
};

export type ChosenThing = Extract<Chosen, { kind: ThingKind }>;
export const isThing = (chosen: Chosen): chosen is ChosenThing => chosen.kind in WAYS;

/** The chosen thing, if it is of this kind. */
export function chosenOf<K extends ThingKind>(shot: Shot, chosen: Chosen, kind: K): Things[K] | null {
  return isThing(chosen) && chosen.kind === kind ? (WAYS[kind].find(shot, chosen.id) ?? null) : null;
}

/** The chosen thing, whatever it is. */
export const chosenThing = (shot: Shot, chosen: Chosen): Thing | null =>
  isThing(chosen) ? (WAYS[chosen.kind].find(shot, chosen.id) ?? null) : null;

/** Values of the chosen thing; which of them fit its kind, the server checks. */
export const setOnChosen = (shot: Shot, chosen: ChosenThing, values: LayerValues): PatchStep[] =>
  WAYS[chosen.kind].set(shot, chosen.id, values);

/** Whether there can be another one just like what is chosen. */
export const canBeAgain = (chosen: Chosen): chosen is ChosenThing =>
  isThing(chosen) && WAYS[chosen.kind].again;

/** Whether something lies in the picture by x and y of its own. */
export const hasPlace = (thing: Thing | null): thing is Thing & { x: Num; y: Num } =>
  thing !== null && "x" in thing && "y" in thing;
