// Calls what the browser works out by itself: questions as JSON lines in, answers out.
import { createInterface } from "node:readline";
import * as camera from "~/workspace/camera";
import { thinned } from "~/workspace/desk/brush";
import * as kinds from "~/workspace/kinds";
import * as geometry from "~/workspace/geometry";
import * as outline from "~/workspace/outline";
import * as patches from "~/workspace/patches";
import * as spaces from "~/workspace/spaces";
import * as time from "~/workspace/time";
import * as keyed from "~/workspace/timestrip/keyed";
import * as tracks from "~/workspace/tracks";
import { movedSpot } from "~/workspace/viewer/movedSpot";
import * as sun from "~/workspace/viewer/sun";
import * as viewport from "~/workspace/viewer/viewport";

type Call = (...args: unknown[]) => unknown;

const told = {
  badRuns: (kind: string, states: number[], sure: number[], first: number, last: number) =>
    tracks.badRuns(
      { kind } as never,
      { at: (f: number) => (states[f] === undefined ? null : { state: states[f], confidence: sure[f] ?? 1 }) } as never,
      first,
      last,
    ),
  handle: (known: Record<number, unknown>, motion: never, point: string, frame: number) =>
    tracks.handleSpot({ at: (_: string, f: number) => known[f] ?? null } as never, motion, point, frame),
};
const placing = {
  own: (layer: never, matrix: number[], frame: number) =>
    spaces.frameFromOwn(layer, { of: () => matrix, placed: () => matrix } as never, frame),
  picture: (layer: never, matrix: number[], frame: number) =>
    spaces.frameFromPicture(layer, { of: () => matrix, placed: () => matrix } as never, frame),
  movedSpot,
  thinned,
};
const modules = { camera, kinds, geometry, outline, patches, keyed, viewport, sun, told, placing, time } as unknown as Record<
  string,
  Record<string, Call>
>;

let room: Record<string, Call> | null = null;
for await (const line of createInterface({ input: process.stdin })) {
  const { call, args } = JSON.parse(line) as { call: string; args: unknown[] };
  const [from, name] = call.split(".") as [string, string];
  let answer: unknown;
  if (call === "camera.roomCamera") {
    room = modules.camera!.roomCamera!(...args) as Record<string, Call>;
    answer = null;
  } else if (from === "room") answer = room![name]!(...args);
  // A stand-in for the camera that was made last.
  else answer = await modules[from]![name]!(...args.map((a) => (a === "ROOM" ? room : a)));
  console.log(JSON.stringify(answer ?? null));
}
