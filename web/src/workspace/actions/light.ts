import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { post, type SetLight, type ShotRecord } from "~/api/client";
import { roomOf, targetFor } from "~/workspace/actions/models";
import type { Point } from "~/workspace/geometry";
import type { V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { useCameras } from "~/workspace/spaces";
import { mention } from "~/ui/Notices";
import { act, useWorkspace } from "~/workspace/store";

const lightQuery = (shot: string, motion: string, measurement: string | null) => ({
  queryKey: ["set-light", shot, motion, measurement],
  queryFn: () => post<SetLight>(`/shots/${shot}/motions/${motion}/light`, {}),
  staleTime: 10 * 60_000,
  retry: false,
});

/** The light of a room, which a model takes that is put there; null where it cannot be told. */
export function useSetLight() {
  const { shotId, record } = useOpenShot();
  const client = useQueryClient();
  return useCallback(
    async (motion: string): Promise<SetLight | null> => {
      const measured = record.document.motions.find((m) => m.id === motion)?.measurement ?? null;
      return client.fetchQuery(lightQuery(shotId, motion, measured)).catch(() => null);
    },
    [shotId, record, client],
  );
}

/** The shadow that a picture throws which stands at a place of a room; null where it cannot be told. */
export function useSetShadow() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (motion: string, frame: number, place: V3, tall: number) =>
      post<SetLight>(`/shots/${shotId}/motions/${motion}/light`, { stands: { frame, place, tall } })
        .then((found) => found.shadow ?? null)
        .catch(() => null),
    [shotId],
  );
}

/** A layer's own shadow becomes as deep as the one of the footage that is clicked. */
export function usePointAtShadow() {
  const { edits } = useOpenShot();
  return useCallback(
    async (layer: string, frame: number, at: Point) => {
      const done = await edits.ask<{ shot: ShotRecord; says: string }>(
        `/layers/${layer}/shadow`,
        { frame, pixel: [at.x, at.y] },
        (answer) => answer.shot,
      );
      if (!done) return;
      mention(done.says);
      act({ do: "tool", tool: "handle" });
    },
    [edits],
  );
}

/** Sets the point of a look that is being picked by what the picture shows at a place. */
export function usePickPoint() {
  const { edits } = useOpenShot();
  return useCallback(
    async (frame: number, at: Point) => {
      const { picking } = useWorkspace.getState();
      if (!picking) return;
      const done = await edits.ask("/point", { ...picking, frame, pixel: [at.x, at.y] });
      if (done) act({ do: "tool", tool: "handle" });
    },
    [edits],
  );
}

/** Looks at the light of the room ahead of time, while something is about to be put there. */
export function useLightAhead() {
  const { shotId, record } = useOpenShot();
  const plonking = useWorkspace((w) => w.tool === "plonk");
  const cameras = useCameras();
  const target = targetFor(record.document);
  const motion = target && (roomOf(record.document, target) ?? target);
  const measured = record.document.motions.find((m) => m.id === motion)?.measurement ?? null;
  useQuery({
    ...lightQuery(shotId, motion ?? "", measured),
    enabled: Boolean(plonking && motion && measured && cameras.get(motion)?.full),
  });
}
