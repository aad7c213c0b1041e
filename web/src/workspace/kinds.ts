import { useQueries } from "@tanstack/react-query";
import type { FilmedLayer, Kind, KindGroup, Layer, Motion, Shot, WorkedLayer } from "~/api/client";
import { kindsQuery, type Registry } from "~/api/queries";

const SORTS: Registry[] = [
  "motion",
  "treatment",
  "layer",
  "generator",
  "mask",
  "key",
  "look",
  "place",
  "footage",
  "output",
  "frame",
];

/** What the server's registries say of every kind; learned once, before a shot is shown. */
const known = new Map<Registry, Map<string, Kind>>();

export const learnKinds = (sort: Registry, kinds: Kind[]) =>
  known.set(sort, new Map(kinds.map((k) => [k.kind, k])));

/** Fetches all registries; whether they are known, so that `kindOf` answers. */
export function useKindsKnown(): boolean {
  const found = useQueries({ queries: SORTS.map((sort) => kindsQuery(sort)) });
  SORTS.forEach((sort, k) => {
    const data = found[k]?.data;
    if (data && !known.has(sort)) learnKinds(sort, data);
  });
  return found.every((f) => f.data);
}

/** What is known of a kind; undefined for one that this server has not. */
export const kindOf = (sort: Registry, kind: string | undefined): Kind | undefined =>
  kind === undefined ? undefined : known.get(sort)?.get(kind);

/** Whether a thing's kind has a trait; `plonket.document.kinds` lists them. */
export const has = (sort: Registry, thing: { kind: string } | null | undefined, trait: string): boolean =>
  kindOf(sort, thing?.kind)?.traits.includes(trait) ?? false;

/** Whether fields have values for which something means anything. */
export const holds = (when: Record<string, unknown[]> | undefined, values: object): boolean =>
  Object.entries(when ?? {}).every(([field, of]) => of.includes((values as Record<string, unknown>)[field]));

/** The groups of a kind's fields that mean something as the others are set. */
export const groupsOf = (kind: Kind | undefined, values: object): string[] =>
  (kind?.groups ?? []).filter((g: KindGroup) => holds(g.when, values)).map((g) => g.name);

/** A text that differs by what is set, with values, or how many there are of them, in its braces. */
export function told(texts: Record<string, string> | undefined, thing: object): string {
  const values = thing as Record<string, unknown>;
  const special = Object.entries(texts ?? {}).find(([on]) => {
    const [field, value] = on.split("=");
    return value !== undefined && String(values[field!]) === value;
  });
  const text = special?.[1] ?? texts?.[""] ?? "";
  return text.replace(/\{(\w+)\}/g, (_, field: string) => {
    const value = values[field];
    return String(Array.isArray(value) ? value.length : (value ?? ""));
  });
}

/** The motions of a shot that things can follow: a matte moves nothing. */
export const followable = (shot: Shot): Motion[] =>
  shot.motions.filter((m) => !has("motion", m, "unfollowed"));

/** What is filmed in 3D, and has a sun and a sky. */
export const isFilmed = (layer: Layer): layer is FilmedLayer => has("layer", layer, "filmed");

/** A part of a floor or wall of the footage that is worked on. */
export const isWorked = (layer: object): layer is WorkedLayer => "from_frame" in layer;
