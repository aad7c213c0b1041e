import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import type { FileFacts } from "~/api/client";
import { type OpenShot, ShotContext } from "~/workspace/context";
import { FileFit } from "~/workspace/runsheet/FileFit";

afterEach(cleanup);

const FACTS: FileFacts = {
  kind: "camera",
  fits: false,
  first: 1001,
  last: 1025,
  rate: 24,
  points: 9000,
  timing: { first: 1001, step: 0.8, points: 3000 },
};

function shown(facts: FileFacts, onDone = vi.fn()) {
  const open = {
    shotId: "s",
    record: { document: { footage: { rate: "30/1", frames: 30 } } },
  } as unknown as OpenShot;
  render(
    <ShotContext.Provider value={open}>
      <FileFit name="move.usda" facts={facts} onDone={onDone} />
    </ShotContext.Provider>,
  );
  return onDone;
}

function type(label: string, text: string) {
  const box = screen.getByLabelText(label);
  fireEvent.focus(box);
  fireEvent.change(box, { target: { value: text } });
  fireEvent.blur(box);
}

it("lays a second on a second, as the server proposes", () => {
  const done = shown(FACTS);
  expect(screen.getByText(/from frame 1001 to 1025, 24 a second, with 9,000 points/)).toBeTruthy();
  fireEvent.click(screen.getByText("Bring it in"));
  expect(done).toHaveBeenCalledWith({ first: 1001, step: 0.8, points: 3000 });
});

it("says how much of the clip is told, and refuses none", () => {
  const done = shown(FACTS);
  expect(screen.getByRole("status").textContent).toContain("every frame");
  type("First frame", "1017");
  expect(screen.getByRole("status").textContent).toContain("11 of 30");
  type("First frame", "2000");
  expect(screen.getByText("Bring it in").closest("button")?.disabled).toBe(true);
  fireEvent.click(screen.getByText("Cancel"));
  expect(done).toHaveBeenCalledWith(null);
});

it("goes by another rate where the file says none", () => {
  const done = shown({ ...FACTS, rate: null, points: 0, timing: { first: 1001, step: 1, points: 0 } });
  type("Rate", "60");
  expect(screen.getByRole("status").textContent).toContain("13 of 30");
  fireEvent.click(screen.getByText("Bring it in"));
  expect(done).toHaveBeenCalledWith({ first: 1001, step: 2, points: 0 });
});
