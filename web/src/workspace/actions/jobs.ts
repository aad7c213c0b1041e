import { useCallback } from "react";
import { type Asked, type Job, ApiError, answered, api } from "~/api/client";
import { useLive } from "~/api/events";
import { inLine } from "~/api/line";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";

const say = (error: unknown) => complain(error instanceof ApiError ? error.message : String(error));

export type Direction = "both" | "forward" | "backward" | "gap";

/** Start work on the open shot, as the edits before have made it; it is among the jobs at once. */
function useBegin() {
  return useCallback(async (asked: () => Asked<Job | null>) => {
    try {
      const job = await inLine(() => answered(asked()));
      if (job) useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      return job;
    } catch (error) {
      say(error);
      return null;
    }
  }, []);
}

/** Start measuring a motion. */
export function useMeasure() {
  const { shotId } = useOpenShot();
  const begin = useBegin();
  return useCallback(
    (motion: string, direction: Direction, origin: number | null) =>
      begin(() =>
        api.POST("/api/shots/{shot_id}/motions/{motion_id}/measure", {
          params: { path: { shot_id: shotId, motion_id: motion } },
          body: { direction, origin },
        }),
      ),
    [begin, shotId],
  );
}

/** Measure how things slip: all followers whose slip is not known, or only some. */
export function useCheckSlip() {
  const { shotId } = useOpenShot();
  const begin = useBegin();
  return useCallback(
    (layers: string[] | null = null) =>
      begin(() =>
        api.POST("/api/shots/{shot_id}/slip", { params: { path: { shot_id: shotId } }, body: { layers } }),
      ),
    [begin, shotId],
  );
}

/** Work the mended frames of the range out ahead. */
export function useMendAhead() {
  const { shotId } = useOpenShot();
  const begin = useBegin();
  return useCallback(
    () => begin(() => api.POST("/api/shots/{shot_id}/ahead", { params: { path: { shot_id: shotId } } })),
    [begin, shotId],
  );
}

/** Work out ahead what is slow about a layer. */
export function useLayerAhead() {
  const { shotId } = useOpenShot();
  const begin = useBegin();
  return useCallback(
    (layer: string, percent: number) =>
      begin(() =>
        api.POST("/api/shots/{shot_id}/layers/{layer_id}/ahead", {
          params: { path: { shot_id: shotId, layer_id: layer } },
          body: { percent },
        }),
      ),
    [begin, shotId],
  );
}

/** Start a layer's clip where it shows the same moment as the footage. */
export function useLineUp() {
  const { shotId } = useOpenShot();
  const begin = useBegin();
  return useCallback(
    (layer: string, by: "sound" | "picture") =>
      begin(() =>
        api.POST("/api/shots/{shot_id}/layers/{layer_id}/lineup", {
          params: { path: { shot_id: shotId, layer_id: layer } },
          body: { by },
        }),
      ),
    [begin, shotId],
  );
}

/** Bend a mask's outline with what it shows, from the shapes that were drawn. */
export function useFollowMask() {
  const { shotId } = useOpenShot();
  const begin = useBegin();
  return useCallback(
    (thing: string, mask: string, frame: number, way: "both" | "on" | "back") =>
      begin(() =>
        api.POST("/api/shots/{shot_id}/masks/{thing_id}/{mask_id}/follow", {
          params: { path: { shot_id: shotId, thing_id: thing, mask_id: mask } },
          body: { frame, way },
        }),
      ),
    [begin, shotId],
  );
}

/** Deliver the shot as it is now. */
export function useDeliver() {
  const { shotId } = useOpenShot();
  const begin = useBegin();
  return useCallback(() => {
    // Asked while a creator waits for something, not when a page is opened.
    if ("Notification" in window && Notification.permission === "default")
      void Notification.requestPermission();
    return begin(() => api.POST("/api/shots/{shot_id}/deliver", { params: { path: { shot_id: shotId } } }));
  }, [begin, shotId]);
}

export async function stopJob(id: string): Promise<void> {
  try {
    const job = await answered(api.POST("/api/jobs/{job_id}/stop", { params: { path: { job_id: id } } }));
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}

export async function retryJob(id: string): Promise<void> {
  try {
    const job = await answered(api.POST("/api/jobs/{job_id}/retry", { params: { path: { job_id: id } } }));
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}

/** Have open work come before, or after, what stands beside it in line. */
export async function placeJob(id: string, sooner: boolean): Promise<void> {
  try {
    const params = { path: { job_id: id } };
    const job = await answered(api.POST("/api/jobs/{job_id}/place", { params, body: { sooner } }));
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}
