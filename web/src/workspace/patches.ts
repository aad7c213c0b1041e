import type { Motion, PatchStep, Perch, Shot } from "~/api/client";

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

export const setOnLayer = (shot: Shot, id: string, values: LayerValues): PatchStep[] =>
  setOn("stack", indexOf(shot.stack, id), id, values);

export const setOnMotion = (
  shot: Shot,
  id: string,
  values: Partial<Record<keyof Motion | string, unknown>>,
) => setOn("motions", indexOf(shot.motions, id), id, values);

export const setOnPerch = (shot: Shot, id: string, values: Partial<Perch>): PatchStep[] =>
  setOn("perches", indexOf(shot.perches, id), id, values);

export const setOnThing = (list: "stack" | "plate", shot: Shot, id: string, values: object): PatchStep[] =>
  setOn(list, indexOf(shot[list], id), id, values);

export const setOnPlate = (shot: Shot, id: string, values: object): PatchStep[] =>
  setOn("plate", indexOf(shot.plate, id), id, values);

export function removeTreatment(shot: Shot, id: string): PatchStep[] {
  const path = `/plate/${indexOf(shot.plate, id)}`;
  return [guard(path, id), { op: "remove", path }];
}

export function removeLayer(shot: Shot, id: string): PatchStep[] {
  const path = `/stack/${indexOf(shot.stack, id)}`;
  return [guard(path, id), { op: "remove", path }];
}

/** Take a motion or a perch away, with what cannot be without it: pins and beams. Other followers stay put. */
function removeTarget(shot: Shot, list: "motions" | "perches", id: string): PatchStep[] {
  const path = `/${list}/${indexOf(shot[list], id)}`;
  const steps: PatchStep[] = [];
  const release = (where: string, thing: { id: string }) =>
    steps.push(guard(where, thing.id), { op: "replace", path: `${where}/follow/target`, value: null });
  shot.perches.forEach((perch, k) => {
    if (perch.follow.target === id) release(`/perches/${k}`, perch);
  });
  shot.motions.forEach((motion, k) => {
    if (motion.kind !== "plane") return;
    motion.regions.forEach((region, r) => {
      if (region.follow === `motion:${id}`)
        steps.push({ op: "replace", path: `/motions/${k}/regions/${r}/follow`, value: "screen" });
    });
  });
  shot.plate.forEach((one, k) => {
    if (one.kind === "clean" && one.target === id)
      steps.push(guard(`/plate/${k}`, one.id), { op: "replace", path: `/plate/${k}/target`, value: null });
    if (one.kind !== "steady" || !one.targets.includes(id)) return;
    const targets = one.targets.filter((t) => t !== id);
    steps.push(guard(`/plate/${k}`, one.id), { op: "replace", path: `/plate/${k}/targets`, value: targets });
  });
  // Masks that ride on it stay where they are drawn, on the footage.
  for (const list of ["plate", "stack"] as const)
    shot[list].forEach((thing, k) => {
      if (!("masks" in thing) || !thing.masks.some((m) => m.rides === `to:${id}`)) return;
      const masks = thing.masks.map((m) => (m.rides === `to:${id}` ? { ...m, rides: "footage" } : m));
      steps.push(...setOn(list, k, thing.id, { masks }));
    });
  const gone: PatchStep[] = [];
  shot.stack.forEach((layer, k) => {
    if (layer.kind === "still" && layer.follow.target === id) release(`/stack/${k}`, layer);
    const held = layer.kind === "pin" ? layer.plane === id : false;
    const hung = layer.kind === "beam" && layer.anchors.some((a) => a.target === id);
    // The far end of the list first, so that the places of the others stay right.
    if (held || hung) gone.unshift(guard(`/stack/${k}`, layer.id), { op: "remove", path: `/stack/${k}` });
  });
  return [...steps, ...gone, guard(path, id), { op: "remove", path }];
}

export const removeMotion = (shot: Shot, id: string) => removeTarget(shot, "motions", id);
export const removePerch = (shot: Shot, id: string) => removeTarget(shot, "perches", id);

export function moveLayer(shot: Shot, id: string, by: -1 | 1): PatchStep[] | null {
  const at = indexOf(shot.stack, id);
  const to = at + by;
  if (to < 0 || to >= shot.stack.length) return null;
  return [guard(`/stack/${at}`, id), { op: "move", from: `/stack/${at}`, path: `/stack/${to}` }];
}

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
  freshId(prefix, [...shot.motions, ...shot.perches, ...shot.plate, ...shot.stack]);

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
