import { useCallback } from "react";
import type { ShotRecord, TimeChange } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { act, useWorkspace } from "~/workspace/store";
import { lengthOf } from "~/workspace/time";

/** Let the footage run otherwise; the playhead stays within the shot. */
export function useTimeChange() {
  const { edits } = useOpenShot();
  return useCallback(
    async (change: TimeChange) => {
      const done = await edits.ask<ShotRecord>("/time", { change }, (answer) => answer);
      if (!done) return null;
      const last = lengthOf(done.document.footage) - 1;
      act({ do: "stretch", stretch: null });
      if (useWorkspace.getState().frame > last) act({ do: "frame", frame: last });
      return done;
    },
    [edits],
  );
}
