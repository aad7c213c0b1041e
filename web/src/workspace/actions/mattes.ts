import { useCallback } from "react";
import { type MatteMotion, type Mover, type PatchStep, type Shot, api } from "~/api/client";
import { useMeasure } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { has } from "~/workspace/kinds";
import { freshName, freshShotId, round, setOnMotion } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

export type PickClick = MatteMotion["clicks"][number];
export type PickBox = MatteMotion["boxes"][number];

/** The mattes of a shot. */
export const mattesOf = (shot: Shot): MatteMotion[] =>
  shot.motions.filter((m): m is MatteMotion => has("motion", m, "matte"));

/** A click or a box more on the chosen matte, or on a new one. */
export function usePickOut() {
  const { edits } = useOpenShot();
  return useCallback(
    async (given: { click: Omit<PickClick, "frame"> } | { box: [Point, Point] }) => {
      const { frame, chosen } = useWorkspace.getState();
      let made: string | null = null;
      const click = "click" in given ? { ...given.click, frame } : null;
      const corners = "box" in given ? given.box : null;
      const box = corners && {
        frame,
        x0: round(Math.min(corners[0].x, corners[1].x)),
        y0: round(Math.min(corners[0].y, corners[1].y)),
        x1: round(Math.max(corners[0].x, corners[1].x)),
        y1: round(Math.max(corners[0].y, corners[1].y)),
      };
      const label = box ? `Box at ${frame}` : click?.subject ? `Pick at ${frame}` : `Not this, at ${frame}`;
      await edits.edit(label, (shot): PatchStep[] => {
        const now = chosen.kind === "motion" ? mattesOf(shot).find((m) => m.id === chosen.id) : undefined;
        if (now)
          return setOnMotion(
            shot,
            now.id,
            click ? { clicks: [...now.clicks, click] } : { boxes: [...now.boxes, box!] },
          );
        made = freshShotId("motion", shot);
        const value = {
          kind: "matte",
          id: made,
          name: freshName("Matte", shot.motions),
          clicks: click ? [click] : [],
          boxes: box ? [box] : [],
        };
        return [{ op: "add", path: "/motions/-", value }];
      });
      if (made) act({ do: "choose", chosen: { kind: "motion", id: made, point: null } });
      if (made) act({ do: "tool", tool: { kind: "pick-out" } });
    },
    [edits],
  );
}

export type MatteUse = "front" | "take out" | "ignore";

/** A mover of the clip as a matte, measured at once; and taken out, or ignored. */
export function useTakeMover() {
  const { edits, shotId } = useOpenShot();
  const measure = useMeasure();
  return useCallback(
    async (mover: Mover, all: readonly Mover[], use: "matte" | "take out" | "ignore") => {
      const { frame, box } = clearest(mover, all);
      const answer = await edits.ask(
        () =>
          api.POST("/api/shots/{shot_id}/movers", {
            params: { path: { shot_id: shotId } },
            body: { frame, box, use, who: mover.who },
          }),
        (a) => a.shot,
      );
      if (!answer?.made) return;
      act({ do: "open", what: "advice", on: false });
      act({ do: "choose", chosen: { kind: "motion", id: answer.made, point: null } });
      act({ do: "frame", frame });
      await measure(answer.made, "both", null);
    },
    [edits, measure, shotId],
  );
}

type Box = Mover["box"];
const overlap = (a: Box, b: Box) =>
  Math.max(0, Math.min(a[2], b[2]) - Math.max(a[0], b[0])) *
  Math.max(0, Math.min(a[3], b[3]) - Math.max(a[1], b[1]));

/** The look on which a mover is least hidden by others, rather in the middle of its time. */
function clearest(mover: Mover, all: readonly Mover[]): Mover["at"][number] {
  const middle = (mover.at.length - 1) / 2;
  const cost = (one: Mover["at"][number], k: number) => {
    const area = Math.max(1, (one.box[2] - one.box[0]) * (one.box[3] - one.box[1]));
    const met = all
      .filter((m) => m !== mover && m.first <= one.frame && one.frame <= m.last)
      .map((m) =>
        m.at.reduce((a, b) => (Math.abs(b.frame - one.frame) < Math.abs(a.frame - one.frame) ? b : a)),
      );
    const hidden = met.reduce((sum, m) => sum + overlap(one.box, m.box), 0) / area;
    return hidden + (0.3 * Math.abs(k - middle)) / (middle + 1);
  };
  return mover.at.reduce((best, one, k) => (cost(one, k) < best.cost ? { one, cost: cost(one, k) } : best), {
    one: mover.at[0]!,
    cost: Infinity,
  }).one;
}

/** Does something by a matte, and chooses what is new. */
export function useMatteUse() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (motion: string, use: MatteUse) => {
      const answer = await edits.ask(
        () =>
          api.POST("/api/shots/{shot_id}/motions/{motion_id}/use", {
            params: { path: { shot_id: shotId, motion_id: motion } },
            body: { use },
          }),
        (a) => a.shot,
      );
      if (!answer?.made) return;
      const kind = use === "front" ? "layer" : "plate";
      act({ do: "choose", chosen: { kind, id: answer.made } });
    },
    [edits, shotId],
  );
}
