import { useCallback } from "react";
import type { LookingMotion, Mover, OutlinePoint, PlaneMotion, Shot, Suggestion } from "~/api/client";
import { useAddCamera } from "~/workspace/actions/camera";
import { useMeasure } from "~/workspace/actions/jobs";
import { spotAt } from "~/workspace/actions/points";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { freshId, freshName, freshShotId, round, setOnMotion } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

const boxOf = (points: Point[]): [number, number][] => {
  const xs = points.map((p) => p.x);
  const ys = points.map((p) => p.y);
  const [x0, x1] = [Math.min(...xs), Math.max(...xs)];
  const [y0, y1] = [Math.min(...ys), Math.max(...ys)];
  return [
    [x0, y0],
    [x1, y0],
    [x1, y1],
    [x0, y1],
  ];
};

/** Four corners in order from the top left, clockwise on screen; any other outline gives its box. */
export function quadOf(points: Point[]): [number, number][] {
  if (points.length !== 4) return boxOf(points).map(([x, y]) => [round(x), round(y)]);
  const cx = points.reduce((s, p) => s + p.x, 0) / 4;
  const cy = points.reduce((s, p) => s + p.y, 0) / 4;
  const around = [...points].sort((a, b) => Math.atan2(a.y - cy, a.x - cx) - Math.atan2(b.y - cy, b.x - cx));
  const first = around.reduce((best, p, k) => (p.x + p.y < around[best]!.x + around[best]!.y ? k : best), 0);
  return [0, 1, 2, 3].map((k) => {
    const p = around[(first + k) % 4]!;
    return [round(p.x), round(p.y)];
  });
}

/** A point being drawn: with handles where it is part of a curve. */
export type Draft = Point & Partial<OutlinePoint>;

export const outlineOf = (frame: number, points: Draft[]) => ({
  keys: [{ frame, points: points.map((p) => ({ ...p, x: round(p.x), y: round(p.y) })) }],
});

/** A quarter circle's handle, of its radius. */
const ROUND = 0.5522847;

/** Four curved points: the ellipse in a box. */
export function ellipseIn(box: Point[]): Draft[] {
  const [x0, x1] = [box[0]!.x, box[2]!.x];
  const [y0, y1] = [box[0]!.y, box[2]!.y];
  const [cx, cy, rx, ry] = [(x0 + x1) / 2, (y0 + y1) / 2, (x1 - x0) / 2, (y1 - y0) / 2];
  const [kx, ky] = [round(rx * ROUND), round(ry * ROUND)];
  return [
    { x: cx, y: y0, in_x: -kx, in_y: 0, out_x: kx, out_y: 0 },
    { x: x1, y: cy, in_x: 0, in_y: -ky, out_x: 0, out_y: ky },
    { x: cx, y: y1, in_x: kx, in_y: 0, out_x: -kx, out_y: 0 },
    { x: x0, y: cy, in_x: 0, in_y: ky, out_x: 0, out_y: -ky },
  ];
}

const regionOf = (id: string, name: string, use: boolean, frame: number, points: Point[]) => ({
  id,
  name,
  use,
  follow: "surface",
  outline: outlineOf(frame, points),
});

/** A finished outline: a region of the chosen plane, or a new plane of its own. Points lie on the current frame. */
export function useAddOutline() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (
      points: Point[],
      use: boolean,
      onReference: (p: Point) => Point,
      plane: PlaneMotion | LookingMotion | null,
    ) => {
      const shot = record.document;
      const frame = useWorkspace.getState().frame;
      if (plane && plane.kind !== "plane") {
        // A camera or a form looks everywhere but where it is told not to: drawn on the screen.
        const id = freshId("region", plane.regions);
        const name = freshName("Ignore", plane.regions);
        const region = { ...regionOf(id, name, false, frame, points), follow: "screen" };
        await edits.edit(`Add ${name}`, setOnMotion(shot, plane.id, { regions: [...plane.regions, region] }));
        act({ do: "choose", chosen: { kind: "motion", id: plane.id, point: null, region: id } });
        return;
      }
      if (plane) {
        const id = freshId("region", plane.regions);
        const name = freshName(use ? "Region" : "Ignore", plane.regions);
        const region = regionOf(id, name, use, plane.reference_frame, points.map(onReference));
        await edits.edit(`Add ${name}`, setOnMotion(shot, plane.id, { regions: [...plane.regions, region] }));
        act({ do: "choose", chosen: { kind: "motion", id: plane.id, point: null, region: id } });
        return;
      }
      const id = freshShotId("motion", shot);
      const name = freshName("Plane", shot.motions);
      const value = {
        kind: "plane",
        id,
        name,
        reference_frame: frame,
        quad: quadOf(points),
        regions: [regionOf("region-1", "Region", use, frame, points)],
      };
      const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/motions/-", value }]);
      if (done) act({ do: "choose", chosen: { kind: "motion", id, point: null, region: "region-1" } });
    },
    [record, edits],
  );
}

const MOST_KEYS = 9;

/** The corners of a mover's box at the look nearest a frame. */
export function moverOutline(mover: Mover, frame: number): [number, number][] {
  const near = mover.at.reduce((a, b) => (Math.abs(b.frame - frame) < Math.abs(a.frame - frame) ? b : a));
  const [x0, y0, x1, y1] = near.box;
  return [
    [x0, y0],
    [x1, y0],
    [x1, y1],
    [x0, y1],
  ];
}

/** A region to be ignored that goes along with what moves by itself. */
function moverRegion(mover: Mover, id: string, name: string) {
  const every = Math.max(1, Math.ceil(mover.at.length / MOST_KEYS));
  const looks = mover.at.filter((_, k) => k % every === 0 || k === mover.at.length - 1);
  const at = (frame: number) => moverOutline(mover, frame).map(([x, y]) => ({ x, y }));
  const [first, ...rest] = looks.map((l) => regionOf(id, name, false, l.frame, at(l.frame)));
  const keys = [first!, ...rest].flatMap((one) => one.outline.keys);
  return { ...first!, outline: { ...first!.outline, keys }, follow: "screen" };
}

/** The motion that a suggestion of the adviser stands for, with what moves by itself left out. */
export function motionFrom(suggestion: Suggestion, movers: readonly Mover[], id: string, shot: Shot) {
  const spots = suggestion.outline.map(([x, y]) => ({ x, y }));
  if (suggestion.kind === "plane") {
    const ignored = movers.map((m, k) => moverRegion(m, `region-${k + 2}`, `Moves by itself ${k + 1}`));
    return {
      kind: "plane",
      id,
      name: freshName("Plane", shot.motions),
      reference_frame: suggestion.frame,
      quad: quadOf(spots),
      regions: [regionOf("region-1", "Region", true, suggestion.frame, spots), ...ignored],
    };
  }
  const points = spots.map((p, k) => ({
    id: `point-${k + 1}`,
    name: k ? `Point ${k + 1}` : "Point",
    ...spotAt(suggestion.frame, p),
  }));
  return { kind: "points", id, name: freshName("Point motion", shot.motions), points };
}

/** Take what the adviser suggests: the motion is made and chosen; a camera, of which nothing has to be drawn, measured too. */
export function useTakeSuggestion() {
  const { record, edits } = useOpenShot();
  const addCamera = useAddCamera();
  const measure = useMeasure();
  return useCallback(
    async (suggestion: Suggestion, movers: readonly Mover[]) => {
      const shot = record.document;
      if (suggestion.kind === "camera") {
        // What moves by itself is set aside by the solve: there is nothing to be drawn first.
        const camera = await addCamera();
        if (!camera) return;
        act({ do: "open", what: "advice", on: false });
        await measure(camera, "both", null);
        return;
      }
      const id = freshShotId("motion", shot);
      act({ do: "frame", frame: suggestion.frame });
      const value = motionFrom(suggestion, movers, id, shot);
      const done = await edits.edit(`Follow what was suggested`, [{ op: "add", path: "/motions/-", value }]);
      if (!done) return;
      const first = suggestion.kind === "point" ? "point-1" : null;
      act({ do: "choose", chosen: { kind: "motion", id, point: first } });
      act({ do: "open", what: "advice", on: false });
    },
    [record, edits, addCamera, measure],
  );
}
