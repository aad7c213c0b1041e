import { useShallow } from "zustand/react/shallow";
import { useMemo } from "react";
import type { Clean, Degrain, Layer, Look, Mask, Mend, OutlinePoint, PatchStep, Shot } from "~/api/client";
import { useChosenLayer, useChosenTreatment, useOpenShot } from "~/workspace/context";
import { type Draft, outlineOf } from "~/workspace/actions/outlines";
import { apply, IDENTITY, invert, type Matrix, type Point, times, valueAt } from "~/workspace/geometry";
import { outlineAt } from "~/workspace/outline";
import {
  allLayers,
  findLayer,
  isPlaced,
  freshId,
  freshName,
  round,
  setOnLayer,
  setOnThing,
} from "~/workspace/patches";
import { frameFromPicture, riding, type Spaces, useSpaces } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";

export type MaskedThing = Layer | Mend | Clean | Degrain | Look;

/** What has masks: the chosen layer or treatment, or the look that is open in the details; and how they are changed. */
export interface Masked {
  thing: MaskedThing;
  list: "stack" | "plate" | "look";
  /** Where it is found by the server: its id, or that of its layer and its own. */
  address: string;
  /** Whether masks may ride on its own picture. */
  owned: boolean;
  /** From a mask's own pixels to the clip's. */
  space: (mask: Mask, frame: number) => Matrix;
  /** Change its masks as they stand when the edit's turn comes. */
  edit: (label: string, change: (masks: Mask[]) => Mask[]) => Promise<boolean>;
}

/** Colours given in turn, so that several masks can be told apart; the first is the colour of mattes. */
export const MASK_COLOURS = ["#b48ad8", "#6fb3b8", "#e0a74e", "#d98880", "#8fb573", "#7f9fd4"];

/** Whose the looks over everything are, where the server is told. */
const FINISH = "_finish";

export function useMasked(): Masked | null {
  const { record, edits } = useOpenShot();
  const layer = useChosenLayer();
  const treatment = useChosenTreatment();
  const {
    chosen,
    look: open,
    lookMasks,
  } = useWorkspace(useShallow((w) => ({ chosen: w.chosen, look: w.look, lookMasks: w.lookMasks })));
  const spaces = useSpaces();
  const finish = record.document.finish;
  return useMemo(() => {
    const looks = layer ? layer.looks : chosen.kind === "finish" ? finish : [];
    const look = lookMasks ? looks.find((l) => l.id === open) : undefined;
    const thing: MaskedThing | null = look ?? layer ?? (treatment && "masks" in treatment ? treatment : null);
    if (!thing) return null;
    const steps = (latest: Shot, change: (masks: Mask[]) => Mask[]): PatchStep[] => {
      if (look) {
        const on = (now: Look[]) => now.map((l) => (l.id === look.id ? { ...l, masks: change(l.masks) } : l));
        if (!layer) return [{ op: "replace", path: "/finish", value: on(latest.finish) }];
        const now = findLayer(latest, layer.id) ?? layer;
        return setOnLayer(latest, layer.id, { looks: on(now.looks) });
      }
      const now = [...allLayers(latest), ...latest.plate].find((t) => t.id === thing.id);
      const masks = now && "masks" in now ? now.masks : thing.masks;
      return setOnThing(layer ? "stack" : "plate", latest, thing.id, { masks: change(masks) });
    };
    return {
      thing,
      list: look ? "look" : layer ? "stack" : "plate",
      address: look ? `${layer?.id ?? FINISH}.${look.id}` : thing.id,
      owned: ownMatrix(layer, spaces, 0) !== null,
      space: (mask, frame) => spaceOf(mask, layer, spaces, frame),
      edit: async (label, change) => (await edits.edit(label, (latest) => steps(latest, change))) !== null,
    };
  }, [layer, treatment, chosen.kind, finish, open, lookMasks, spaces, edits]);
}

/** From a layer's own picture to the clip; null for those that have none. */
const ownMatrix = (layer: Layer | null, spaces: Spaces, frame: number): Matrix | null =>
  isPlaced(layer) ? frameFromPicture(layer, spaces, frame) : null;

function spaceOf(mask: Mask, layer: Layer | null, spaces: Spaces, frame: number): Matrix {
  if (mask.rides === "footage") return IDENTITY;
  if (mask.rides === "own") return ownMatrix(layer, spaces, frame) ?? IDENTITY;
  const target = mask.rides === "screen" ? null : mask.rides.slice(3);
  return spaces.of(riding(target, mask.reference_frame), frame);
}

/** The parts of a mask's drawing that a matrix moves, moved by it: as they lie in one frame. */
export function drawnThrough(mask: Mask, m: Matrix, frame: number): Partial<Mask> {
  if ("from_x" in mask) {
    const at = (x: typeof mask.from_x, y: typeof mask.from_y) =>
      apply(m, { x: valueAt(x, frame), y: valueAt(y, frame) });
    const [a, b] = [at(mask.from_x, mask.from_y), at(mask.to_x, mask.to_y)];
    return { from_x: round(a.x), from_y: round(a.y), to_x: round(b.x), to_y: round(b.y) };
  }
  // What was picked lies where it was filmed.
  if (!("outline" in mask)) return {};
  const keys = mask.outline.keys.map((key) => ({ ...key, points: pointsThrough(key.points, m) }));
  return { outline: { keys } };
}

const pointsThrough = (points: OutlinePoint[], m: Matrix): OutlinePoint[] =>
  points.map((p) => {
    const at = apply(m, p);
    const arm = (dx: number, dy: number) => {
      const end = apply(m, { x: p.x + dx, y: p.y + dy });
      return [round(end.x - at.x), round(end.y - at.y)] as const;
    };
    const [in_x, in_y] = arm(p.in_x, p.in_y);
    const [out_x, out_y] = arm(p.out_x, p.out_y);
    return { ...p, x: round(at.x), y: round(at.y), in_x, in_y, out_x, out_y };
  });

/** A mask that is drawn as an outline. */
export type Outlined = Mask & { kind: "outline" };
export const isOutlined = (mask: Mask): mask is Outlined => "outline" in mask;

/** The chosen outlines among a thing's masks: the chosen one, the only one there is, and those that go along. */
export function chosenOutlines(masks: Mask[], mask: string | null, too: readonly string[]): Outlined[] {
  const first = masks.find((m) => m.id === mask) ?? (masks.length === 1 ? masks[0] : undefined);
  return masks.filter(isOutlined).filter((m) => m.id === first?.id || too.includes(m.id));
}

/** An outline's shape at a frame moved by so many pixels of the clip, in the mask's own `space`. */
export function shapeMoved(mask: Outlined, space: Matrix, frame: number, by: Point): OutlinePoint[] {
  const shift: Matrix = [1, 0, by.x, 0, 1, by.y, 0, 0, 1];
  return pointsThrough(outlineAt(mask.outline, frame), times(invert(space), times(shift, space)));
}

/** A new mask of the chosen thing, from what was drawn on the current frame (pixels of the clip). */
export function useAddMask() {
  const masked = useMasked();
  return async (points: Draft[], shape: "outline" | "graded") => {
    if (!masked) return;
    const { frame, mask: chosen } = useWorkspace.getState();
    const masks = masked.thing.masks;
    const like = masks.find((m) => m.id === chosen) ?? masks[0];
    const rides = like?.rides ?? "footage";
    const base = {
      id: freshId("mask", masks),
      name: freshName(shape === "graded" ? "Graded" : "Mask", masks),
      colour: MASK_COLOURS[masks.length % MASK_COLOURS.length]!,
      rides,
      reference_frame: frame,
    };
    const full =
      shape === "graded"
        ? {
            ...base,
            kind: "graded",
            from_x: points[0]!.x,
            from_y: points[0]!.y,
            to_x: points[1]!.x,
            to_y: points[1]!.y,
          }
        : { ...base, kind: "outline", outline: outlineOf(frame, points), soft: firstSoft(masks) };
    // The server fills in what is not said here.
    const draft = full as unknown as Mask;
    const back = invert(masked.space(draft, frame));
    const placed = { ...draft, ...drawnThrough(filled(draft), back, frame) } as Mask;
    if (await masked.edit(`Add ${base.name}`, (now) => [...now, placed])) act({ do: "mask", id: base.id });
  };
}

const firstSoft = (masks: Mask[]) => {
  const first = masks.find((m) => "outline" in m);
  return first && "outline" in first ? first.soft : 0;
};

/** With the handles that a drawn point may lack. */
function filled(mask: Mask): Mask {
  if (mask.kind !== "outline") return mask;
  const none = { in_x: 0, in_y: 0, out_x: 0, out_y: 0, feather: 0 };
  const keys = mask.outline.keys.map((k) => ({ ...k, points: k.points.map((p) => ({ ...none, ...p })) }));
  return { ...mask, outline: { keys } };
}

/** The unit normal of an outline at each of its points, pointing out of it. */
export function outwards(points: readonly Draft[]): Point[] {
  const n = points.length;
  let area = 0;
  points.forEach((p, k) => {
    const q = points[(k + 1) % n]!;
    area += p.x * q.y - q.x * p.y;
  });
  const side = area > 0 ? 1 : -1;
  return points.map((p, k) => {
    const before = points[(k + n - 1) % n]!;
    const after = points[(k + 1) % n]!;
    const curved = p.in_x || p.in_y || p.out_x || p.out_y;
    const t = curved
      ? { x: (p.out_x ?? 0) - (p.in_x ?? 0), y: (p.out_y ?? 0) - (p.in_y ?? 0) }
      : { x: after.x - before.x, y: after.y - before.y };
    const length = Math.hypot(t.x, t.y) || 1;
    return { x: (side * t.y) / length, y: (-side * t.x) / length };
  });
}
