// Calls what the browser works out by itself: questions as JSON lines in, answers out.
import { createInterface } from "node:readline";
import * as camera from "~/workspace/camera";
import * as geometry from "~/workspace/geometry";
import * as outline from "~/workspace/outline";
import * as patches from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import * as keyed from "~/workspace/timestrip/keyed";
import { FrameStore } from "~/workspace/viewer/frames";
import * as sun from "~/workspace/viewer/sun";
import * as viewport from "~/workspace/viewer/viewport";

type Call = (...args: unknown[]) => unknown;

/** A server whose answers are given by hand. */
const open = new Map<string, (failure?: string) => void>();
const given_up: string[] = [];
globalThis.fetch = ((url: string, { signal }: { signal: AbortSignal }) =>
  new Promise((resolve, reject) => {
    open.set(url, (failure) => {
      if (failure === "silence") reject(new Error("no answer"));
      else if (failure) resolve({ ok: false, json: () => Promise.resolve({ message: failure }) } as unknown as Response);
      else resolve({ ok: true, blob: () => Promise.resolve(null) } as unknown as Response);
    });
    signal.addEventListener("abort", () => {
      open.delete(url);
      given_up.push(url);
      reject(new Error("aborted"));
    });
  })) as unknown as typeof fetch;
globalThis.createImageBitmap = (() => Promise.resolve({ width: 100, height: 100, close: () => undefined })) as never;
const store = new FrameStore();
const frames = {
  focus: (now: string[], next: string[]) => store.focus(now, next),
  open: () => [...open.keys()],
  givenUp: () => given_up,
  kept: (url: string) => store.get(url) !== null,
  problem: (url: string) => store.problem(url),
  again: (url: string) => store.again(url),
  answer: async (url: string, failure?: string) => {
    open.get(url)?.(failure);
    open.delete(url);
    await new Promise((done) => setTimeout(done, 5));
  },
  pause: (ms: number) => new Promise((done) => setTimeout(done, ms)),
};
const workspace = {
  act: (action: never) => act(action),
  state: () => ({ ...useWorkspace.getState(), act: null }),
};

const modules = { camera, geometry, outline, patches, keyed, viewport, frames, workspace, sun } as unknown as Record<
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
