import { useCallback } from "react";
import { type FormFit, type FormMotion, post, type Tug } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { act, useWorkspace } from "~/workspace/store";

const say = (error: unknown) => complain(error instanceof Error ? error.message : String(error));

/** A form in the middle of the picture, chosen and ready to be tugged into place on this frame. */
export function useAddForm() {
  const { edits } = useOpenShot();
  return useCallback(
    async (shape: FormMotion["shape"] = "box", asset: string | null = null) => {
      const { frame } = useWorkspace.getState();
      const done = await edits.ask("/forms", { shape, frame, asset });
      const made = done?.document.motions.at(-1);
      if (made) act({ do: "choose", chosen: { kind: "motion", id: made.id, point: null } });
    },
    [edits],
  );
}

/** Put a form's tugs on a frame: one step that can be undone. */
export function useTug() {
  const { edits } = useOpenShot();
  return useCallback(
    async (motion: string, frame: number, tugs: Tug[]) =>
      (await edits.ask(`/motions/${motion}/tugs`, { frame, tugs })) !== null,
    [edits],
  );
}

/** What tugs would make of a form, for showing while one is dragged; nothing is changed. */
export const fitOf = (shotId: string, motion: string, frame: number, tugs: Tug[]) =>
  post<FormFit>(`/shots/${shotId}/motions/${motion}/fit`, { frame, tugs });

/** A tug where a click meets the form. */
export function useDropTug() {
  const { shotId } = useOpenShot();
  const tug = useTug();
  return useCallback(
    async (motion: FormMotion, frame: number, at: Point) => {
      try {
        const place = await post<{ at: [number, number, number] } | null>(
          `/shots/${shotId}/motions/${motion.id}/touch`,
          { frame, x: at.x, y: at.y },
        );
        if (!place) return complain("The form is not there. Click on it, or drag one of its corners.");
        const mine = motion.stakes.find((s) => s.frame === frame)?.tugs ?? [];
        await tug(motion.id, frame, [...mine, { at: place.at, x: at.x, y: at.y }]);
        act({ do: "tool", tool: "handle" });
      } catch (error) {
        say(error);
      }
    },
    [shotId, tug],
  );
}
