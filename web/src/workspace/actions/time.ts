import { useCallback } from "react";
import { type TimeChange, api } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { act, useWorkspace } from "~/workspace/store";
import { lengthOf } from "~/workspace/time";

/** Let the footage run otherwise; the playhead stays within the shot. */
export function useTimeChange() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (change: TimeChange) => {
      const done = await edits.ask(() =>
        api.POST("/api/shots/{shot_id}/time", { params: { path: { shot_id: shotId } }, body: { change } }),
      );
      if (!done) return null;
      const last = lengthOf(done.document.footage) - 1;
      act({ do: "stretch", stretch: null });
      if (useWorkspace.getState().frame > last) act({ do: "frame", frame: last });
      return done;
    },
    [edits, shotId],
  );
}
