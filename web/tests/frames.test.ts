import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { FrameStore } from "~/workspace/viewer/frames";
import { HandServer, settled } from "./server";

let server: HandServer;
let store: FrameStore;

beforeEach(() => {
  server = new HandServer();
  vi.stubGlobal("createImageBitmap", () =>
    Promise.resolve({ width: 100, height: 100, close: () => undefined }),
  );
  store = new FrameStore();
});
afterEach(() => {
  vi.useRealTimers();
  // Nothing that is still wanted is asked of the next test's server.
  store.focus([], []);
});

const kept = (url: string) => store.get(url) !== null;
/** Wait until these are asked for, and no others. */
const asks = (...urls: string[]) => vi.waitFor(() => expect(server.open).toEqual(urls), { timeout: 3000 });

test("what is looked at comes first and the next ones wait for a pause", async () => {
  store.focus(["a"], ["a0", "a1", "a2"]);
  await settled();
  expect(server.open, "nothing is fetched in advance while a picture is waited for").toEqual(["a"]);
  await server.answer("a");
  expect(kept("a")).toBe(true);
  expect(server.open, "an edit that follows at once has the server to itself").toEqual([]);
  await asks("a0");
  await server.answer("a0");
  await asks("a1");
  // The shot changes: the next frames of the version before are given up, not finished.
  store.focus(["b"], ["b0"]);
  await asks("b");
  expect(server.givenUp).toContain("a1");
  await server.answer("b");
  await asks("b0");
  // A step to a frame that is on its way goes on waiting for it.
  store.focus(["b0"], ["b1"]);
  await asks("b0");
  expect(server.givenUp).not.toContain("b0");
  await server.answer("b0");
  expect(kept("b0")).toBe(true);
});

test("what is kept is not asked for again", async () => {
  store.focus(["k", "l"], []);
  await asks("k", "l");
  await server.answer("k");
  await server.answer("l");
  store.focus(["l", "k"], []);
  await settled();
  expect(server.open).toEqual([]);
});

test("what cannot be made says why and is asked for again by hand", async () => {
  store.focus(["bad"], []);
  await server.answer("bad", { message: "The key has no sample yet." }, 400);
  expect(store.problem("bad")).toBe("The key has no sample yet.");
  expect(kept("bad")).toBe(false);
  store.focus(["bad"], []);
  await settled();
  expect(server.open, "not over and over again").toEqual([]);
  store.again("bad");
  await asks("bad");
  expect(store.problem("bad")).toBeNull();
  await server.answer("bad");
  expect(kept("bad")).toBe(true);
});

test("a server that does not answer is asked again while the frame is looked at", async () => {
  store.focus(["lost"], []);
  await server.silence("lost");
  expect(store.problem("lost")).toBeNull();
  expect(server.open).toEqual([]);
  await asks("lost");
  await server.silence("lost");
  store.focus(["other"], []);
  await server.answer("other");
  vi.useFakeTimers();
  await vi.advanceTimersByTimeAsync(5000);
  expect(server.open, "not looked at any more").toEqual([]);
});
