import type { CameraSolve, RoomMotion, Spot, StandingLayer } from "~/api/client";
import { type Matrix, type Point, rowAt, times, valueAt } from "~/workspace/geometry";

/** The browser's copy of the core's `RoomCamera`: the solved camera in its room, for handles and marks. */

export type V3 = readonly [number, number, number];
/** Row by row. */
export type M3 = readonly number[];

const BEHIND = 1e-6;
const HIDDEN: Matrix = [1e-9, 0, -1e7, 0, 1e-9, -1e7, 0, 0, 1];

export const plus = (a: V3, b: V3): V3 => [a[0] + b[0], a[1] + b[1], a[2] + b[2]];
export const minus = (a: V3, b: V3): V3 => [a[0] - b[0], a[1] - b[1], a[2] - b[2]];
export const by = (a: V3, s: number): V3 => [a[0] * s, a[1] * s, a[2] * s];
export const length = (a: V3): number => Math.hypot(a[0], a[1], a[2]);
export const dot = (a: V3, b: V3): number => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
export const across = (m: M3, v: V3): V3 => [
  m[0]! * v[0] + m[1]! * v[1] + m[2]! * v[2],
  m[3]! * v[0] + m[4]! * v[1] + m[5]! * v[2],
  m[6]! * v[0] + m[7]! * v[1] + m[8]! * v[2],
];
export const flipped = (m: M3): M3 => [m[0]!, m[3]!, m[6]!, m[1]!, m[4]!, m[7]!, m[2]!, m[5]!, m[8]!];

function matrixOf(q: readonly number[]): M3 {
  const [x = 0, y = 0, z = 0, w = 1] = q;
  return [
    1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w),
    2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w),
    2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y),
  ]; // prettier-ignore
}

export interface RoomCamera {
  frames: number;
  /** Whether there is depth: a camera that only turns has none. */
  full: boolean;
  eye: (frame: number) => V3;
  /** Local to world; the camera looks along its -z. */
  turn: (frame: number) => M3;
  focal: (frame: number) => number;
  /** How the light lies in the room: of one that moves before a still camera, it stays with the camera. */
  lit: (frame: number) => M3;
  /** A solved place in the room. */
  inRoom: (solved: readonly number[]) => V3;
  project: (frame: number, world: V3) => Point | null;
  /** Where a pixel looks: unit direction from the eye. */
  ray: (frame: number, pixel: Point) => V3;
  /** From a flat patch's pixels to the frame's: where its origin is, what a pixel spans to the right and up. */
  flat: (frame: number, centre: V3, right: V3, up: V3) => Matrix;
}

/** A solved camera at other moments, in its frames, between them too. */
export function solveAt(solve: CameraSolve, moments: readonly number[]): CameraSolve {
  const rows = (flat: readonly number[], n: number) =>
    Array.from({ length: flat.length / n }, (_, k) => flat.slice(n * k, n * k + n));
  const turns = rows(solve.rotation, 4);
  // The way round that is near: a turn and its negative are the same.
  for (let k = 1; k < turns.length; k++)
    if (turns[k]!.reduce((sum, v, c) => sum + v * turns[k - 1]![c]!, 0) < 0)
      turns[k] = turns[k]!.map((v) => -v);
  const places = rows(solve.position, 3);
  const focals = rows(solve.focal, 1);
  const turned = moments.map((m) => {
    const q = rowAt(turns, m);
    const size = Math.hypot(...q);
    return q.map((v) => v / size);
  });
  return {
    ...solve,
    position: moments.flatMap((m) => rowAt(places, m)),
    rotation: turned.flat(),
    focal: moments.flatMap((m) => rowAt(focals, m)),
  };
}

export function roomCamera(
  motion: RoomMotion,
  solve: CameraSolve,
  frames: number,
  size: { w: number; h: number },
): RoomCamera {
  const room = motion.room;
  const laid = matrixOf(room.turn);
  const inRoom = (p: readonly number[]): V3 =>
    plus(by(across(laid, [p[0]!, p[1]!, p[2]!]), room.scale), room.shift as V3);
  const at = (frame: number) => Math.min(Math.max(frame, 0), frames - 1);
  const eyes: V3[] = [];
  const turns: M3[] = [];
  for (let i = 0; i < frames; i++) {
    eyes.push(inRoom(solve.position.slice(3 * i, 3 * i + 3)));
    const m = matrixOf(solve.rotation.slice(4 * i, 4 * i + 4));
    const columns = [0, 1, 2].map((c) => across(laid, [m[c]!, m[3 + c]!, m[6 + c]!]));
    turns.push([0, 1, 2].flatMap((r) => columns.map((c) => c[r]!)));
  }
  const middle = { x: size.w / 2, y: size.h / 2 };
  const [k1 = 0, k2 = 0, p1 = 0, p2 = 0, k3 = 0] = solve.distortion;
  const bent = (x: number, y: number): Point => {
    const r2 = x * x + y * y;
    const radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3));
    return {
      x: x * radial + 2 * p1 * x * y + p2 * (r2 + 2 * x * x),
      y: y * radial + p1 * (r2 + 2 * y * y) + 2 * p2 * x * y,
    };
  };
  const local = (frame: number, world: V3): V3 => {
    const p = across(flipped(turns[at(frame)]!), minus(world, eyes[at(frame)]!));
    return [p[0], -p[1], -p[2]];
  };
  const pixel = (frame: number, p: V3): Point => {
    const f = solve.focal[at(frame)]!;
    const q = bent(p[0] / p[2], p[1] / p[2]);
    return { x: q.x * f + middle.x, y: q.y * f + middle.y };
  };
  const project = (frame: number, world: V3): Point | null => {
    const here = local(frame, world);
    if (here[2] <= BEHIND) return null;
    let out = pixel(frame, here);
    if (solve.readout) {
      const [before, after] = [Math.max(at(frame) - 1, 0), Math.min(at(frame) + 1, frames - 1)];
      const speed = by(minus(local(after, world), local(before, world)), 1 / Math.max(after - before, 1));
      for (let k = 0; k < 2; k++) {
        const late = plus(here, by(speed, solve.readout * (out.y / size.h - 0.5)));
        if (late[2] > BEHIND) out = pixel(frame, late);
      }
    }
    return out;
  };
  const ray = (frame: number, p: Point): V3 => {
    const f = solve.focal[at(frame)]!;
    const want = { x: (p.x - middle.x) / f, y: (p.y - middle.y) / f };
    let flat = { ...want };
    for (let k = 0; k < 20; k++) {
      const b = bent(flat.x, flat.y);
      flat = { x: flat.x - (b.x - want.x), y: flat.y - (b.y - want.y) };
    }
    const way = across(turns[at(frame)]!, [flat.x, -flat.y, -1]);
    return by(way, 1 / length(way));
  };
  const flat = (frame: number, centre: V3, right: V3, up: V3): Matrix => {
    const turn = flipped(turns[at(frame)]!);
    const see = (v: V3): V3 => {
      const p = across(turn, v);
      return [p[0], -p[1], -p[2]];
    };
    const o = see(minus(centre, eyes[at(frame)]!));
    if (o[2] <= BEHIND) return HIDDEN;
    const f = solve.focal[at(frame)]!;
    const columns = [see(right), see(by(up, -1)), o].map((c): V3 => [
      f * c[0] + middle.x * c[2],
      f * c[1] + middle.y * c[2],
      c[2],
    ]);
    const m = [0, 1, 2].flatMap((r) => columns.map((c) => c[r]! / o[2]));
    if (!k1 && !k2 && !k3 && !p1 && !p2 && !solve.readout) return m;
    const seen = { x: m[2]!, y: m[5]! };
    const bend = (p: Point): Point => {
      const b = bent((p.x - middle.x) / f, (p.y - middle.y) / f);
      return { x: b.x * f + middle.x, y: b.y * f + middle.y };
    };
    const step = 4;
    const [a, b, c] = [seen, { x: seen.x + step, y: seen.y }, { x: seen.x, y: seen.y + step }].map(bend);
    const true_ = project(frame, centre) ?? a!;
    const l = [(b!.x - a!.x) / step, (c!.x - a!.x) / step, (b!.y - a!.y) / step, (c!.y - a!.y) / step];
    const onto = [
      l[0]!, l[1]!, true_.x - l[0]! * seen.x - l[1]! * seen.y,
      l[2]!, l[3]!, true_.y - l[2]! * seen.x - l[3]! * seen.y,
      0, 0, 1,
    ]; // prettier-ignore
    return times(onto, m);
  };
  const still = "moves" in motion && motion.moves === "object" ? motion.reference_frame : null;
  const lit = (frame: number): M3 =>
    still === null ? [1, 0, 0, 0, 1, 0, 0, 0, 1] : multiplied(turns[at(frame)]!, flipped(turns[at(still)]!));
  return {
    frames,
    full: solve.kind === "full",
    eye: (f) => eyes[at(f)]!,
    turn: (f) => turns[at(f)]!,
    lit,
    focal: (f) => solve.focal[at(f)]!,
    inRoom,
    project,
    ray,
    flat,
  };
}

/** From a spot's own pixels to the frame's; the core's `spot_path`. */
export function spotMatrix(camera: RoomCamera, spot: Spot, frame: number): Matrix {
  const centre: V3 = [valueAt(spot.x, frame), valueAt(spot.y, frame), valueAt(spot.z, frame)];
  const size = valueAt(spot.pixel_mm, frame) / 1000;
  const [right, up] = spotAxes(camera, spot, frame, centre);
  return camera.flat(frame, centre, by(right, size), by(up, size));
}

export function spotAxes(camera: RoomCamera, spot: Spot, frame: number, centre: V3): [V3, V3] {
  const turn = camera.turn(frame);
  if (spot.faces === "camera")
    return [
      [turn[0]!, turn[3]!, turn[6]!],
      [turn[1]!, turn[4]!, turn[7]!],
    ];
  let heading = (valueAt(spot.heading, frame) * Math.PI) / 180;
  const tilt = (valueAt(spot.tilt, frame) * Math.PI) / 180;
  if (spot.faces === "upright") {
    const way = minus(camera.eye(frame), centre);
    heading += Math.atan2(way[0], way[2]);
  }
  const [c, s] = [Math.cos(heading), Math.sin(heading)];
  return [
    [c, 0, -s],
    [-Math.sin(tilt) * s, Math.cos(tilt), -Math.sin(tilt) * c],
  ];
}

/** Where a pixel's ray meets a level of the room (the ground is nought), or null where it does not before the camera. */
export function onLevel(camera: RoomCamera, frame: number, pixel: Point, level = 0): V3 | null {
  const eye = camera.eye(frame);
  const way = camera.ray(frame, pixel);
  const far = (level - eye[1]) / way[1];
  // Near the horizon a pixel is a mile.
  return Math.abs(way[1]) < 0.02 || far <= 0 ? null : plus(eye, by(way, far));
}

/** Where a pixel's ray is as far before the camera as a place of the room is. */
export function atDepthOf(camera: RoomCamera, frame: number, pixel: Point, place: V3): V3 {
  const eye = camera.eye(frame);
  const turn = camera.turn(frame);
  const ahead: V3 = [-turn[2]!, -turn[5]!, -turn[8]!];
  const way = camera.ray(frame, pixel);
  return plus(eye, by(way, dot(minus(place, eye), ahead) / Math.max(dot(way, ahead), 1e-6)));
}

/** A thing in its room, as the core's `axes_of`; lengths in metres. */
export interface Standing {
  /** The place about which it turns, on its spot. */
  on: V3;
  /** Its bottom's middle. */
  foot: V3;
  /** Unit ways along its own x, y and z. */
  axes: [V3, V3, V3];
  /** How wide, tall and deep it is. */
  size: V3;
}

/** How wide, tall and deep a thing is in the room. */
export function sizeOf(layer: StandingLayer, frame: number): V3 {
  if ("from_frame" in layer)
    return [layer.wide, layer.kind === "relief" ? valueAt(layer.height, frame) : 0, layer.deep];
  const tall = valueAt(layer.tall, frame);
  if (layer.kind === "model") {
    const s = tall / Math.max(layer.extent[1], 1e-9);
    return [layer.extent[0] * s, tall, layer.extent[2] * s];
  }
  if (layer.kind === "lamp") return [valueAt(layer.wide, frame), tall, 0];
  return [valueAt(layer.wide, frame), layer.shape === "plane" ? 0 : tall, valueAt(layer.deep, frame)];
}

export function standing(camera: RoomCamera, spot: Spot, layer: StandingLayer, frame: number): Standing {
  const foot: V3 = [valueAt(spot.x, frame), valueAt(spot.y, frame), valueAt(spot.z, frame)];
  const [right, up] = spotAxes(camera, spot, frame, foot);
  const front: V3 = [
    right[1] * up[2] - right[2] * up[1],
    right[2] * up[0] - right[0] * up[2],
    right[0] * up[1] - right[1] * up[0],
  ];
  const base: M3 = [right[0], up[0], front[0], right[1], up[1], front[1], right[2], up[2], front[2]];
  const turned = [
    about("y", valueAt(layer.heading, frame)),
    about("x", valueAt(layer.tilt, frame)),
    about("z", valueAt(layer.roll, frame)),
  ].reduce(multiplied, base);
  const column = (k: number): V3 => [turned[k]!, turned[3 + k]!, turned[6 + k]!];
  const on = plus(foot, by(up, valueAt(layer.lift, frame)));
  const unit = layer.kind === "model" ? valueAt(layer.tall, frame) / Math.max(layer.extent[1], 1e-9) : 0;
  const pivot = layer.kind === "model" ? layer.pivot : [0, 0, 0];
  return {
    on,
    foot: [0, 1, 2].reduce((at, k) => plus(at, by(column(k), -pivot[k]! * unit)), on),
    // What is worked on in a wall lies in it: out of it is the way that its spot faces.
    axes:
      "from_frame" in layer && layer.on === "wall"
        ? [column(0), column(2), by(column(1), -1)]
        : [column(0), column(1), column(2)],
    size: sizeOf(layer, frame),
  };
}

function about(axis: "x" | "y" | "z", degrees: number): M3 {
  const [c, s] = [Math.cos((degrees * Math.PI) / 180), Math.sin((degrees * Math.PI) / 180)];
  if (axis === "x") return [1, 0, 0, 0, c, -s, 0, s, c];
  if (axis === "y") return [c, 0, s, 0, 1, 0, -s, 0, c];
  return [c, -s, 0, s, c, 0, 0, 0, 1];
}

const multiplied = (a: M3, b: M3): M3 =>
  [0, 1, 2].flatMap((r) =>
    [0, 1, 2].map((c) => a[3 * r]! * b[c]! + a[3 * r + 1]! * b[3 + c]! + a[3 * r + 2]! * b[6 + c]!),
  );

/** Where a place on a form (metres) is seen, by the form's pose before the camera. */
export function formSeen(
  pose: { place: readonly number[]; turn: readonly number[] },
  focal: number,
  size: { w: number; h: number },
  at: V3,
): Point | null {
  const [x, y, z] = plus(across(matrixOf(pose.turn), at), pose.place as unknown as V3);
  if (z >= -BEHIND) return null;
  return { x: (x / -z) * focal + size.w / 2, y: (y / z) * focal + size.h / 2 };
}
