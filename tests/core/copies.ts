// Calls what the browser works out by itself: questions as JSON lines in, answers out.
import { createInterface } from "node:readline";
import { QueryClient } from "@tanstack/react-query";
import * as client from "~/api/client";
import { editsOf, heardOf } from "~/api/edits";
import * as events from "~/api/events";
import { useNotices } from "~/ui/Notices";
import * as camera from "~/workspace/camera";
import { thinned } from "~/workspace/desk/brush";
import * as kinds from "~/workspace/kinds";
import * as geometry from "~/workspace/geometry";
import * as outline from "~/workspace/outline";
import * as patches from "~/workspace/patches";
import * as spaces from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import * as time from "~/workspace/time";
import * as keyed from "~/workspace/timestrip/keyed";
import * as tracks from "~/workspace/tracks";
import { FrameStore } from "~/workspace/viewer/frames";
import { movedSpot } from "~/workspace/viewer/movedSpot";
import * as sun from "~/workspace/viewer/sun";
import * as viewport from "~/workspace/viewer/viewport";

type Call = (...args: unknown[]) => unknown;

/** A server whose answers are given by hand. */
type Reply = string | { status: number; body: unknown };
const open = new Map<string, (reply?: Reply) => void>();
const asked: { url: string; method?: string; headers?: unknown; body?: unknown }[] = [];
const given_up: string[] = [];
globalThis.fetch = ((url: string, init: RequestInit = {}) =>
  new Promise((resolve, reject) => {
    asked.push({ url, method: init.method, headers: init.headers, body: init.body });
    open.set(url, (reply) => {
      if (reply === "silence") reject(new Error("no answer"));
      else if (typeof reply === "object")
        resolve(new Response(reply.status === 204 ? null : JSON.stringify(reply.body), { status: reply.status }));
      else if (reply) resolve(new Response(JSON.stringify({ message: reply }), { status: 400 }));
      else resolve({ ok: true, blob: () => Promise.resolve(null) } as unknown as Response);
    });
    init.signal?.addEventListener("abort", () => {
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
  answer: async (url: string, reply?: Reply) => {
    open.get(url)?.(reply);
    open.delete(url);
    await new Promise((done) => setTimeout(done, 5));
  },
  pause: (ms: number) => new Promise((done) => setTimeout(done, ms)),
};
(globalThis as { document?: unknown }).document = { cookie: "a=1; plonket_csrf=secret; b=2" };
let called: Promise<unknown> = Promise.resolve();
const server = {
  call: (method: string, path: string, body?: unknown) => {
    called = client.call(method, path, body ?? undefined).catch((e: unknown) => {
      if (!(e instanceof client.ApiError)) throw e;
      return { status: e.status, code: e.code, message: e.message, details: e.details };
    });
    return null;
  },
  told: () => called,
  asked: () => asked.at(-1),
};
const cached: unknown[] = [];
const live = {
  job: (job: never) => events.takeJob(job, { invalidateQueries: (of: unknown) => cached.push(of) } as never),
  partial: (event: never) => events.takePartial(event),
  jobs: () => events.useLive.getState().jobs,
  stale: () => cached.splice(0),
  plane: (motion: string, frame: number) => tracks.livePlane(events.useLive.getState().partial[motion], frame),
  rows: (motion: string) => {
    const found = events.useLive.getState().partial[motion];
    return found ? { ...found, rows: [...found.rows] } : null;
  },
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
const workspace = {
  act: (action: never) => act(action),
  state: () => ({ ...useWorkspace.getState(), act: null }),
};

const cache = new QueryClient();
const edits = editsOf(cache, "1");
const changing = {
  here: (record: unknown) => void cache.setQueryData(["shot", "1"], record),
  shot: () => cache.getQueryData(["shot", "1"]),
  edit: (label: string, patch: never) => void edits.edit(label, patch),
  raise: (by: number) =>
    void edits.edit("Raise", (shot) => [
      { op: "replace", path: "/high", value: (shot as unknown as { high: number }).high + by },
    ]),
  fail: () =>
    void edits.edit("Fail", () => {
      throw new Error("A slip of ours.");
    }),
  undo: () => void edits.undo(),
  redo: () => void edits.redo(),
  ask: (path: string) => void edits.ask<{ shot: client.ShotRecord }>(path, {}, (answer) => answer.shot),
  nearer: (thing: string) =>
    void edits.operate((shot) => {
      const high = (shot as unknown as { high: number }).high;
      return high > 0 ? { do: "move", thing, before: `${high}` } : null;
    }),
  heard: (version: number) => void heardOf(cache, "1", version),
  stale: () => cache.getQueryState(["shot", "1"])?.isInvalidated,
  sent: () => asked.splice(0).map((a) => [a.url, JSON.parse(String(a.body))]),
  said: () => {
    const all = useNotices.getState().list.map((n) => n.text);
    useNotices.setState({ list: [] });
    return all;
  },
};

const modules = { camera, kinds, geometry, outline, patches, keyed, viewport, frames, workspace, sun, server, live, placing, changing, time } as unknown as Record<
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
