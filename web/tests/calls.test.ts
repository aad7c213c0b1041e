import { beforeEach, expect, test } from "vitest";
import { ApiError, answered, api } from "~/api/client";
import { HandServer } from "./server";

let server: HandServer;
beforeEach(() => {
  server = new HandServer();
  document.cookie = "plonket_csrf=secret";
});

const params = { path: { shot_id: "1" } };
const edit = () =>
  answered(api.POST("/api/shots/{shot_id}/edits", { params, body: { label: "Move", patch: [] } }));

test("what is sent is JSON with the page's word", async () => {
  const told = edit();
  await server.answer("/api/shots/1/edits", { number: 7 });
  expect(await told).toEqual({ number: 7 });
  const [asked] = server.asked;
  expect(asked).toMatchObject({ method: "POST", body: { label: "Move", patch: [] } });
  expect(asked!.headers.get("X-CSRFToken")).toBe("secret");
  expect(asked!.headers.get("Content-Type")).toBe("application/json");
});

test("nothing told is nothing", async () => {
  const told = answered(api.DELETE("/api/shots/{shot_id}", { params }));
  await server.answer("/api/shots/1", null, 204);
  expect(await told).toBeUndefined();
  expect(server.asked[0]!.method).toBe("DELETE");
});

test("problems come in the server's words", async () => {
  const problem = { code: "room.pair", message: "Pick two details for this.", details: { found: 1 } };
  const told = edit().catch((e: unknown) => e);
  await server.answer("/api/shots/1/edits", problem, 400);
  const error = (await told) as ApiError;
  expect(error).toBeInstanceOf(ApiError);
  expect(error).toMatchObject({ status: 400, ...problem });
});

test("an answer without words names its number", async () => {
  const told = edit().catch((e: unknown) => e);
  await server.answer("/api/shots/1/edits", null, 502);
  expect(await told).toMatchObject({ status: 502, code: "unknown" });
  expect(((await told) as Error).message).toContain("502");
});

test("a server that is gone is said", async () => {
  const told = edit().catch((e: unknown) => e);
  await server.silence("/api/shots/1/edits");
  expect(await told).toMatchObject({ status: 0, code: "network" });
  expect(((await told) as Error).message).toContain("Nothing is lost");
});
