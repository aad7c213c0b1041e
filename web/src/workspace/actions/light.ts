import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { type SetLight, type ShotRecord, answered, api } from "~/api/client";
import { roomOf, targetFor } from "~/workspace/actions/models";
import type { Point } from "~/workspace/geometry";
import type { V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { findLayer } from "~/workspace/patches";
import { useCameras } from "~/workspace/spaces";
import { mention } from "~/ui/Notices";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

const lightQuery = (shot: string, motion: string, measurement: string | null) => ({
  queryKey: ["set-light", shot, motion, measurement],
  queryFn: () =>
    answered(
      api.POST("/api/shots/{shot_id}/motions/{motion_id}/light", {
        params: { path: { shot_id: shot, motion_id: motion } },
        body: {},
      }),
    ),
  staleTime: 10 * 60_000,
  retry: false,
});

/** For so long what is put somewhere waits for the light of its set: then it is put there, and lit when that is known. */
const SOON_MS = 1000;

/** What something takes that is put into a lit room, if that is known soon; else `later` tells when it can be asked for. */
export interface LightSoon {
  now: SetLight | null;
  later: Promise<SetLight | null> | null;
}

async function soon(found: Promise<SetLight>): Promise<LightSoon> {
  const told = found.catch(() => null);
  let clock = 0;
  const late = new Promise<"late">((done) => (clock = window.setTimeout(() => done("late"), SOON_MS)));
  const first = await Promise.race([told, late]);
  window.clearTimeout(clock);
  return first === "late" ? { now: null, later: told } : { now: first, later: null };
}

/** The light of a room, which a model takes that is put there; nothing where it cannot be told. */
export function useSetLight() {
  const { shotId, record } = useOpenShot();
  const client = useQueryClient();
  return useCallback(
    (motion: string): Promise<LightSoon> => {
      const measured = record.document.motions.find((m) => m.id === motion)?.measurement ?? null;
      return soon(client.fetchQuery(lightQuery(shotId, motion, measured)));
    },
    [shotId, record, client],
  );
}

/** The light of a room with the shadow that a picture throws which stands at a place there. */
export function useSetShadow() {
  const { shotId } = useOpenShot();
  return useCallback(
    (motion: string, frame: number, place: V3, tall: number): Promise<LightSoon> =>
      soon(
        answered(
          api.POST("/api/shots/{shot_id}/motions/{motion_id}/light", {
            params: { path: { shot_id: shotId, motion_id: motion } },
            body: { stands: { frame, place: [...place], tall } },
          }),
        ),
      ),
    [shotId],
  );
}

/** Lights a layer that is there already as soon as the light of its set is known, unless it is gone or was changed. */
export function useLightLater() {
  const { shotId, edits } = useOpenShot();
  const client = useQueryClient();
  return useCallback(
    async (layer: string, frame: number, later: LightSoon["later"]) => {
      if (!later) return;
      mention("It is lit as the set as soon as the set's light is known.");
      const here = () => {
        const shot = client.getQueryData<ShotRecord>(["shot", shotId])?.document;
        const found = shot && findLayer(shot, layer);
        return found ? JSON.stringify(LIT_BY.map((name) => (found as Record<string, unknown>)[name])) : null;
      };
      const before = here();
      const found = await later;
      if (!found || before === null || here() !== before) return;
      await edits.ask(
        () =>
          api.POST("/api/shots/{shot_id}/layers/{layer_id}/light", {
            params: { path: { shot_id: shotId, layer_id: layer } },
            body: { frame },
          }),
        (answer) => answer.shot,
      );
      mention(found.says);
    },
    [shotId, edits, client],
  );
}

/** What a creator may have set while the light was still being looked at. */
const LIT_BY = ["sun", "sun_heading", "sun_height", "sky", "lit_like", "looks"];

/** A layer's own shadow becomes as deep as the one of the footage that is clicked. */
export function usePointAtShadow() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (layer: string, frame: number, at: Point) => {
      const done = await edits.ask(
        () =>
          api.POST("/api/shots/{shot_id}/layers/{layer_id}/shadow", {
            params: { path: { shot_id: shotId, layer_id: layer } },
            body: { frame, pixel: [at.x, at.y] },
          }),
        (answer) => answer.shot,
      );
      if (!done) return;
      mention(done.says);
      act({ do: "tool", tool: HANDLE });
    },
    [edits, shotId],
  );
}

/** Sets the point of a look that is being picked by what the picture shows at a place. */
export function usePickPoint() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (frame: number, at: Point) => {
      const { tool } = useWorkspace.getState();
      if (tool.kind !== "point") return;
      const done = await edits.ask(() =>
        api.POST("/api/shots/{shot_id}/point", {
          params: { path: { shot_id: shotId } },
          body: { ...tool.picking, frame, pixel: [at.x, at.y] },
        }),
      );
      if (done) act({ do: "tool", tool: HANDLE });
    },
    [edits, shotId],
  );
}

/** Looks at the light of the room ahead of time, while something is about to be put there. */
export function useLightAhead() {
  const { shotId, record } = useOpenShot();
  const plonking = useWorkspace((w) => w.tool.kind === "plonk");
  const cameras = useCameras();
  const target = targetFor(record.document);
  const motion = target && (roomOf(record.document, target) ?? target);
  const measured = record.document.motions.find((m) => m.id === motion)?.measurement ?? null;
  useQuery({
    ...lightQuery(shotId, motion ?? "", measured),
    enabled: Boolean(plonking && motion && measured && cameras.get(motion)?.full),
  });
}
