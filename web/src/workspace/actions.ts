import { useCallback } from "react";
import {
  type Anchor,
  type Asset,
  type Detail,
  type Job,
  type PatchStep,
  type PlaneMotion,
  type PointMotion,
  type Suggestion,
  type Shot,
  ApiError,
  get,
  post,
} from "~/api/client";
import { useAssets } from "~/api/queries";
import { useLive } from "~/api/events";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { freshId, freshName, freshShotId, givePoint, round, setOnMotion } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

const say = (error: unknown) => complain(error instanceof ApiError ? error.message : String(error));

/** Judge a point just set by hand, and offer the nearest good detail when it is not one. */
async function judgePoint(
  asset: string,
  motion: string,
  point: string,
  pattern: number,
  frame: number,
  at: Point,
): Promise<void> {
  try {
    const found = await get<Detail>(
      `/clips/${asset}/detail?frame=${frame}&x=${at.x.toFixed(2)}&y=${at.y.toFixed(2)}&pattern_px=${pattern}`,
    );
    const [x, y] = found.better ?? [];
    if (found.grade === "good") act({ do: "offer", offer: null });
    else if (x !== undefined && y !== undefined)
      act({ do: "offer", offer: { x, y, message: found.message, point, motion, frame } });
    else complain(found.message);
  } catch {
    // Advice only: the point is set all the same.
  }
}

/** Set a point by hand at the current frame, then judge the place. */
export function useGivePoint() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (motion: PointMotion, pointId: string, at: Point) => {
      const frame = useWorkspace.getState().frame;
      const point = motion.points.find((p) => p.id === pointId);
      if (!point || !record.document.footage) return;
      const first = point.given.some((g) => g.frame === frame) || point.given.length === 0;
      const label = first ? `Move ${point.name}` : `Stake ${point.name} at ${frame}`;
      await edits.edit(label, givePoint(record.document, motion.id, pointId, frame, at.x, at.y));
      await judgePoint(record.document.footage.asset, motion.id, pointId, point.pattern_px, frame, at);
    },
    [record, edits],
  );
}

const spotAt = (frame: number, place: Point) => ({
  pattern_px: 23,
  reach_px: 40,
  given: [{ frame, x: round(place.x), y: round(place.y) }],
});

/** A new point, in the chosen point motion or in one of its own. */
function useAddPoint() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (place: Point, at: number) => {
      const shot = record.document;
      const { chosen } = useWorkspace.getState();
      const motion = chosen.kind === "motion" ? shot.motions.find((m) => m.id === chosen.id) : undefined;
      let motionId: string;
      let pointId: string;
      if (motion?.kind === "points") {
        motionId = motion.id;
        pointId = freshId("point", motion.points);
        const point = { id: pointId, name: freshName("Point", motion.points), ...spotAt(at, place) };
        const index = shot.motions.indexOf(motion);
        await edits.edit(`Add ${point.name}`, [
          { op: "test", path: `/motions/${index}/id`, value: motionId },
          { op: "add", path: `/motions/${index}/points/-`, value: point },
        ]);
      } else {
        motionId = freshShotId("motion", shot);
        pointId = "point-1";
        const name = freshName("Point motion", shot.motions);
        const points = [{ id: pointId, name: "Point", ...spotAt(at, place) }];
        await edits.edit(`Add ${name}`, [
          { op: "add", path: "/motions/-", value: { kind: "points", id: motionId, name, points } },
        ]);
      }
      act({ do: "choose", chosen: { kind: "motion", id: motionId, point: pointId } });
      if (shot.footage) await judgePoint(shot.footage.asset, motionId, pointId, 23, at, place);
    },
    [record, edits],
  );
}

/** The motion or perch that something new should follow: the chosen one, or the last measured. */
function targetFor(shot: Shot): string | null {
  const { chosen } = useWorkspace.getState();
  if (chosen.kind === "perch") return chosen.id;
  const measured = shot.motions.filter((m) => m.measurement !== null);
  if (chosen.kind === "motion" && measured.some((m) => m.id === chosen.id)) return chosen.id;
  return measured.at(-1)?.id ?? null;
}

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

/** What a click in the picture does with the tool in hand. */
export function useClickTool() {
  const { record, edits } = useOpenShot();
  const { data: assets } = useAssets();
  const addPoint = useAddPoint();
  const addPerch = useAddPerch();
  const plonk = useCallback(
    async (place: Point, at: number, asset: Asset, as: "still" | "pin") => {
      const shot = record.document;
      const id = freshShotId("layer", shot);
      const name = freshName(asset.name, shot.stack);
      const { chosen } = useWorkspace.getState();
      const planes = shot.motions.filter((m) => m.kind === "plane");
      const shared = { id, name, asset: asset.digest, width: asset.width, height: asset.height };
      let value: Record<string, unknown>;
      const plane =
        planes.find((m) => chosen.kind === "motion" && m.id === chosen.id) ??
        planes.filter((m) => m.measurement).at(-1) ??
        planes.at(-1);
      if (as === "pin" && plane) {
        value = { kind: "pin", ...shared, plane: plane.id };
      } else {
        const target = targetFor(shot);
        const perch = shot.perches.find((p) => p.id === target);
        const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
        value = {
          kind: "still",
          ...shared,
          // On a perch, what is plonked sits where the perch is.
          x: perch ? 0 : round(place.x),
          y: perch ? 0 : round(place.y),
          size: suitableSize(asset, shot.footage?.width ?? 1280),
          ...asset.settings,
          follow: followOf(target, at, onPlane),
        };
      }
      const done = await edits.edit(`Plonk ${name}`, [{ op: "add", path: "/stack/0", value }]);
      if (done) act({ do: "choose", chosen: { kind: "layer", id } });
    },
    [record, edits],
  );
  return useCallback(
    (at: Point) => {
      const { tool, plonking, plonkAs, frame } = useWorkspace.getState();
      if (tool === "add-point") void addPoint(at, frame);
      if (tool === "perch") void addPerch(at, frame);
      const asset = tool === "plonk" ? assets?.find((a) => a.digest === plonking) : undefined;
      if (asset) void plonk(at, frame, asset, plonkAs);
    },
    [assets, addPoint, addPerch, plonk],
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
  return useCallback(
    async (place: Point, frame: number) => {
      const shot = record.document;
      const id = freshShotId("perch", shot);
      const name = freshName("Perch", shot.perches);
      const target = targetFor(shot);
      const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
      const value = {
        id,
        name,
        x: round(place.x),
        y: round(place.y),
        follow: followOf(shot.perches.some((p) => p.id === target) ? null : target, frame, onPlane),
      };
      const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/perches/-", value }]);
      if (done) act({ do: "choose", chosen: { kind: "perch", id } });
    },
    [record, edits],
  );
}

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

const regionOf = (id: string, name: string, use: boolean, frame: number, points: Point[]) => ({
  id,
  name,
  use,
  follow: "surface",
  outline: { keys: [{ frame, points: points.map((p) => ({ x: round(p.x), y: round(p.y) })) }] },
});

/** A finished outline: a region of the chosen plane, or a new plane of its own. Points lie on the current frame. */
export function useAddOutline() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (points: Point[], use: boolean, onReference: (p: Point) => Point, plane: PlaneMotion | null) => {
      const shot = record.document;
      const frame = useWorkspace.getState().frame;
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

/** A beam between anchors. */
export function useAddBeam() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (anchors: Anchor[]) => {
      const shot = record.document;
      const id = freshShotId("layer", shot);
      const name = freshName("Beam", shot.stack);
      const value = { kind: "beam", id, name, anchors };
      const done = await edits.edit(`Draw ${name}`, [{ op: "add", path: "/stack/0", value }]);
      if (done) act({ do: "choose", chosen: { kind: "layer", id } });
    },
    [record, edits],
  );
}

/** Take what the adviser suggests: the motion is made, with what moves left out, and chosen. */
export function useTakeSuggestion() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (suggestion: Suggestion, moving: [number, number][][]) => {
      const shot = record.document;
      const id = freshShotId("motion", shot);
      const spots = suggestion.outline.map(([x, y]) => ({ x, y }));
      act({ do: "frame", frame: suggestion.frame });
      let value: Record<string, unknown>;
      if (suggestion.kind === "plane") {
        const ignored = moving.map((m, k) => ({
          ...regionOf(
            `region-${k + 2}`,
            `Moves by itself ${k + 1}`,
            false,
            suggestion.frame,
            m.map(([x, y]) => ({ x, y })),
          ),
          follow: "screen",
        }));
        const name = freshName("Plane", shot.motions);
        value = {
          kind: "plane",
          id,
          name,
          reference_frame: suggestion.frame,
          quad: quadOf(spots),
          regions: [regionOf("region-1", "Region", true, suggestion.frame, spots), ...ignored],
        };
      } else {
        const points = spots.map((p, k) => ({
          id: `point-${k + 1}`,
          name: k ? `Point ${k + 1}` : "Point",
          ...spotAt(suggestion.frame, p),
        }));
        value = { kind: "points", id, name: freshName("Point motion", shot.motions), points };
      }
      const done = await edits.edit(`Follow what was suggested`, [{ op: "add", path: "/motions/-", value }]);
      if (!done) return;
      const first = suggestion.kind === "point" ? "point-1" : null;
      act({ do: "choose", chosen: { kind: "motion", id, point: first } });
      act({ do: "open", what: "advice", on: false });
    },
    [record, edits],
  );
}

export type Direction = "both" | "forward" | "backward" | "gap";

/** Start measuring a motion. */
export function useMeasure() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (motion: string, direction: Direction, origin: number | null) => {
      try {
        const job = await post<Job>(`/shots/${shotId}/motions/${motion}/measure`, { direction, origin });
        useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      } catch (error) {
        say(error);
      }
    },
    [shotId],
  );
}

/** Measure how things slip: all followers whose slip is not known, or only some. */
export function useCheckSlip() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (layers: string[] | null = null) => {
      try {
        const job = await post<Job | null>(`/shots/${shotId}/slip`, { layers });
        if (job) useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      } catch (error) {
        say(error);
      }
    },
    [shotId],
  );
}

export async function stopJob(id: string): Promise<void> {
  try {
    const job = await post<Job>(`/jobs/${id}/stop`);
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}

export async function retryJob(id: string): Promise<void> {
  try {
    const job = await post<Job>(`/jobs/${id}/retry`);
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}

/** Read a file that the creator picks and hand its text on. */
export function pickText(accept: string, take: (name: string, text: string) => void): void {
  const input = document.createElement("input");
  input.type = "file";
  input.accept = accept;
  input.onchange = () => {
    const file = input.files?.[0];
    if (file) void file.text().then((text) => take(file.name, text));
  };
  input.click();
}

export type { PatchStep };
