import { QueryClient } from "@tanstack/react-query";
import { beforeEach, expect, test } from "vitest";
import { api, type PatchStep, type ShotRecord } from "~/api/client";
import { type Edits, editsOf, heardOf } from "~/api/edits";
import { inLine } from "~/api/line";
import { useNotices } from "~/ui/Notices";
import { HandServer, settled } from "./server";

const AT = "/api/shots/1";
let server: HandServer;
let cache: QueryClient;
let edits: Edits;

const record = (version: number, high = 0, undo: string | null = null) =>
  ({ id: "1", version, number: version, spaces: "s", undo, document: { high } }) as unknown as ShotRecord;
const here = () =>
  cache.getQueryData(["shot", "1"]) as unknown as { version: number; document: { high: number } };
const highOf = (shot: unknown) => (shot as { high: number }).high;
const raise = (by: number) =>
  void edits.edit("Raise", (shot): PatchStep[] => [
    { op: "replace", path: "/high", value: highOf(shot) + by },
  ]);
const raised = (value: number) => [
  "/edits",
  { label: "Raise", patch: [{ op: "replace", path: "/high", value }] },
];
const answer = (path: string, body: unknown, status = 200) => server.answer(`${AT}${path}`, body, status);
const sent = async () => {
  await settled();
  return server.sent(AT);
};
const said = () => {
  const texts = useNotices.getState().list.map((n) => n.text);
  useNotices.setState({ list: [] });
  return texts;
};

beforeEach(async () => {
  // What a test before left in the line has no server any more.
  await Promise.race([inLine(() => Promise.resolve()), settled()]);
  server = new HandServer();
  cache = new QueryClient();
  cache.setQueryData(["shot", "1"], record(1));
  edits = editsOf(cache, "1");
  said();
});

test("a second edit is made from the answer to the first", async () => {
  raise(2);
  raise(3);
  expect(await sent(), "one at a time").toEqual([raised(2)]);
  // The server may have done more than was asked: the next one starts from there.
  await answer("/edits", record(2, 10));
  expect(await sent()).toEqual([raised(13)]);
  await answer("/edits", record(3, 13));
  expect(here().document.high).toBe(13);
});

test("an operation is made from the shot as it is by then", async () => {
  const nearer = () =>
    void edits.operate((shot) =>
      highOf(shot) > 0 ? { do: "move", thing: "boat", before: `${highOf(shot)}` } : null,
    );
  raise(2);
  nearer();
  expect(await sent(), "one at a time").toEqual([raised(2)]);
  await answer("/edits", record(2, 7));
  expect(await sent()).toEqual([["/operations", { operation: { do: "move", thing: "boat", before: "7" } }]]);
  await answer("/operations", { shot: record(3), made: null });
  nearer();
  expect(await sent(), "what is nothing is not sent").toEqual([]);
  expect(here().version).toBe(3);
});

test("undo takes back the edit that was still on its way", async () => {
  void edits.undo();
  expect(await sent(), "nothing to undo").toEqual([]);
  raise(5);
  void edits.undo();
  expect(await sent()).toEqual([raised(5)]);
  await answer("/edits", record(2, 5, "Raise"));
  expect((await sent()).map(([path]) => path)).toEqual(["/undo"]);
  await answer("/undo", record(3));
  expect(here().version).toBe(3);
  expect(said()).toEqual(["Undone: Raise"]);
});

test("what is refused says why and lets the next go", async () => {
  void edits.edit("Move", [{ op: "add", path: "/x", value: 1 }]);
  void edits.edit("Nothing", []);
  void edits.edit("Fail", () => {
    throw new Error("A slip of ours.");
  });
  raise(1);
  expect((await sent()).map(([path]) => path)).toEqual(["/edits"]);
  await answer("/edits", { code: "x", message: "There is no room." }, 400);
  expect(await sent(), "an edit of nothing is not sent").toEqual([raised(1)]);
  const words = said();
  expect(words[0]).toBe("There is no room.");
  expect(words[1]).toContain("A slip of ours.");
  await answer("/edits", record(2));
});

test("the later of two answers stands", async () => {
  const match = () =>
    void edits.ask(
      () =>
        api.POST("/api/shots/{shot_id}/layers/{layer_id}/match", {
          params: { path: { shot_id: "1", layer_id: "a" } },
          body: { frame: 0 },
        }),
      (told) => told.shot,
    );
  match();
  await sent();
  cache.setQueryData(["shot", "1"], record(9, 9));
  await answer("/layers/a/match", { shot: record(7, 7) });
  expect(here().document.high).toBe(9);
  match();
  await sent();
  await answer("/layers/a/match", { shot: record(10, 8) });
  expect(here().document.high).toBe(8);
});

test("a change that is heard of is fetched only when it is not our own", async () => {
  const stale = () => cache.getQueryState(["shot", "1"])?.isInvalidated;
  raise(1);
  void heardOf(cache, "1", 2);
  await sent();
  await answer("/edits", record(2, 1));
  expect(stale(), "the answer brought what the event told of").toBe(false);
  void heardOf(cache, "1", 3);
  await settled();
  expect(stale()).toBe(true);
});
