import { useCallback } from "react";
import { type FormMotion, type Tug, answered, api } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

const say = (error: unknown) => complain(error instanceof Error ? error.message : String(error));

/** A form in the middle of the picture, chosen and ready to be tugged into place on this frame. */
export function useAddForm() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (shape: FormMotion["shape"] = "box", asset: string | null = null) => {
      const { frame } = useWorkspace.getState();
      const done = await edits.ask(() =>
        api.POST("/api/shots/{shot_id}/forms", {
          params: { path: { shot_id: shotId } },
          body: { shape, frame, asset },
        }),
      );
      const made = done?.document.motions.at(-1);
      if (made) act({ do: "choose", chosen: { kind: "motion", id: made.id, point: null } });
    },
    [edits, shotId],
  );
}

/** Put a form's tugs on a frame: one step that can be undone. */
export function useTug() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (motion: string, frame: number, tugs: Tug[]) =>
      (await edits.ask(() =>
        api.POST("/api/shots/{shot_id}/motions/{motion_id}/tugs", {
          params: { path: { shot_id: shotId, motion_id: motion } },
          body: { frame, tugs },
        }),
      )) !== null,
    [edits, shotId],
  );
}

/** What tugs would make of a form, for showing while one is dragged; nothing is changed. */
export const fitOf = (shotId: string, motion: string, frame: number, tugs: Tug[]) =>
  answered(
    api.POST("/api/shots/{shot_id}/motions/{motion_id}/fit", {
      params: { path: { shot_id: shotId, motion_id: motion } },
      body: { frame, tugs },
    }),
  );

/** A tug where a click meets the form. */
export function useDropTug() {
  const { shotId } = useOpenShot();
  const tug = useTug();
  return useCallback(
    async (motion: FormMotion, frame: number, at: Point) => {
      try {
        const place = await answered(
          api.POST("/api/shots/{shot_id}/motions/{motion_id}/touch", {
            params: { path: { shot_id: shotId, motion_id: motion.id } },
            body: { frame, x: at.x, y: at.y },
          }),
        );
        if (!place) return complain("The form is not there. Click on it, or drag one of its corners.");
        const mine = motion.stakes.find((s) => s.frame === frame)?.tugs ?? [];
        await tug(motion.id, frame, [...mine, { at: place.at as Tug["at"], x: at.x, y: at.y }]);
        act({ do: "tool", tool: HANDLE });
      } catch (error) {
        say(error);
      }
    },
    [shotId, tug],
  );
}
