import type { Layer, PatchStep, PointMotion, Shot } from "~/api/client";

const indexOf = (list: { id: string }[], id: string) => list.findIndex((x) => x.id === id);

/** Steps that guard a list item by its id, so that a patch never hits another one. */
const guard = (path: string, id: string): PatchStep => ({ op: "test", path: `${path}/id`, value: id });

export function setOnLayer(shot: Shot, id: string, values: Partial<Layer>): PatchStep[] {
  const path = `/stack/${indexOf(shot.stack, id)}`;
  return [
    guard(path, id),
    ...Object.entries(values).map(([key, value]) => ({
      op: "replace" as const,
      path: `${path}/${key}`,
      value,
    })),
  ];
}

export function setOnMotion(shot: Shot, id: string, values: Partial<PointMotion>): PatchStep[] {
  const path = `/motions/${indexOf(shot.motions, id)}`;
  return [
    guard(path, id),
    ...Object.entries(values).map(([key, value]) => ({
      op: "replace" as const,
      path: `${path}/${key}`,
      value,
    })),
  ];
}

export function removeLayer(shot: Shot, id: string): PatchStep[] {
  const path = `/stack/${indexOf(shot.stack, id)}`;
  return [guard(path, id), { op: "remove", path }];
}

/** Take a motion away; what followed it stays where it is on its reference frame. */
export function removeMotion(shot: Shot, id: string): PatchStep[] {
  const path = `/motions/${indexOf(shot.motions, id)}`;
  const followers = shot.stack.flatMap((layer, k): PatchStep[] =>
    layer.follow.motion === id
      ? [guard(`/stack/${k}`, layer.id), { op: "replace", path: `/stack/${k}/follow/motion`, value: null }]
      : [],
  );
  return [...followers, guard(path, id), { op: "remove", path }];
}

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
