// Calls what the browser works out by itself: questions as JSON lines in, answers out.
import { createInterface } from "node:readline";
import * as camera from "~/workspace/camera";
import * as geometry from "~/workspace/geometry";
import * as outline from "~/workspace/outline";
import * as patches from "~/workspace/patches";
import * as keyed from "~/workspace/timestrip/keyed";
import * as viewport from "~/workspace/viewer/viewport";

type Call = (...args: unknown[]) => unknown;
const modules = { camera, geometry, outline, patches, keyed, viewport } as unknown as Record<
  string,
  Record<string, Call>
>;

let room: Record<string, Call> | null = null;
createInterface({ input: process.stdin }).on("line", (line) => {
  const { call, args } = JSON.parse(line) as { call: string; args: unknown[] };
  const [from, name] = call.split(".") as [string, string];
  let answer: unknown;
  if (call === "camera.roomCamera") {
    room = modules.camera!.roomCamera!(...args) as Record<string, Call>;
    answer = null;
  } else if (from === "room") answer = room![name]!(...args);
  // A stand-in for the camera that was made last.
  else answer = modules[from]![name]!(...args.map((a) => (a === "ROOM" ? room : a)));
  console.log(JSON.stringify(answer ?? null));
});
