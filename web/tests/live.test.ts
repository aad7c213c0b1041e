import { QueryClient } from "@tanstack/react-query";
import { beforeEach, expect, test, vi } from "vitest";
import type { Job } from "~/api/client";
import { type PartialEvent, takeJob, takePartial, useLive } from "~/api/events";
import { LOST, livePlane, TRACKED } from "~/workspace/tracks";

const EYE = [1, 0, 0, 0, 1, 0, 0, 0, 1];
const client = new QueryClient();
const partial = (rows: number[][], more: Partial<PartialEvent> = {}) =>
  takePartial({ job: "j", motion: "m", kind: "plane", ids: [], rows, ...more });
const told = () => useLive.getState().partial["m"];
const job = (more: Partial<Job>) =>
  ({
    id: "j",
    kind: "measure",
    state: "running",
    motion: "m",
    label: "It",
    message: "",
    result: {},
    ...more,
  }) as Job;

beforeEach(() => useLive.setState({ jobs: {}, partial: {} }));

test("rows come in and the last word on a frame holds", () => {
  partial([
    [4, 0.9, TRACKED, 0, 3, ...EYE],
    [5, 0.8, TRACKED, 0, 3, ...EYE],
  ]);
  const moved = [1, 0, 7, 0, 1, 2, 0, 0, 1];
  partial([
    [5, 0.7, TRACKED, 0, 3, ...moved],
    [6, 0.6, TRACKED, 0, 3, ...EYE],
  ]);
  expect([...told()!.rows.keys()]).toEqual(["4", "5", "6"]);
  expect(told()!.last).toBe(6);
  expect(livePlane(told(), 5)).toEqual(moved);
  expect(livePlane(told(), 9)).toBeNull();
  // Another run begins anew.
  partial([[0, 1, TRACKED, 0, 3, ...EYE]], { job: "k" });
  expect([...told()!.rows.keys()]).toEqual(["0"]);
});

test("points are told apart by their numbers", () => {
  const rows = [
    [0, 3, 10, 20, 0.9, TRACKED, 0],
    [1, 3, 30, 40, 0.9, LOST, 0],
  ];
  partial(rows, { kind: "points", ids: ["a", "b"] });
  expect([...told()!.rows.keys()]).toEqual(["0:3", "1:3"]);
  expect(told()).toMatchObject({ last: 3, ids: ["a", "b"] });
  expect(livePlane(told(), 3), "points are no plane").toBeNull();
});

test.each(["done", "failed", "stopped"] as const)(
  "what was partly measured goes when its job is %s",
  (state) => {
    partial([[0, 1, TRACKED, 0, 3, ...EYE]]);
    takeJob(job({}), client);
    expect(told()).toBeDefined();
    takeJob(job({ state, motion: "other" }), client);
    expect(told()).toBeDefined();
    takeJob(job({ state }), client);
    expect(told()).toBeUndefined();
    expect(useLive.getState().jobs["j"]!.state).toBe(state);
  },
);

test("what an ended job changed is fetched anew", () => {
  const stale = vi.spyOn(client, "invalidateQueries").mockResolvedValue();
  takeJob(job({ kind: "deliver" }), client);
  expect(stale).not.toHaveBeenCalled();
  takeJob(job({ kind: "deliver", state: "done" }), client);
  expect(stale).toHaveBeenLastCalledWith({ queryKey: ["deliveries"] });
  takeJob(job({ kind: "conform", state: "failed" }), client);
  expect(stale).toHaveBeenLastCalledWith({ queryKey: ["assets"] });
});
