import { useCallback } from "react";
import { type Job, ApiError, post } from "~/api/client";
import { useLive } from "~/api/events";
import { inLine } from "~/api/line";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";

const say = (error: unknown) => complain(error instanceof ApiError ? error.message : String(error));

export type Direction = "both" | "forward" | "backward" | "gap";

/** Start work on the open shot, as the edits before have made it; it is among the jobs at once. */
function useBegin() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (path: string, body?: unknown) => {
      try {
        const job = await inLine(() => post<Job | null>(`/shots/${shotId}${path}`, body));
        if (job) useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
        return job;
      } catch (error) {
        say(error);
        return null;
      }
    },
    [shotId],
  );
}

/** Start measuring a motion. */
export function useMeasure() {
  const begin = useBegin();
  return useCallback(
    (motion: string, direction: Direction, origin: number | null) =>
      begin(`/motions/${motion}/measure`, { direction, origin }),
    [begin],
  );
}

/** Measure how things slip: all followers whose slip is not known, or only some. */
export function useCheckSlip() {
  const begin = useBegin();
  return useCallback((layers: string[] | null = null) => begin("/slip", { layers }), [begin]);
}

/** Work the mended frames of the range out ahead. */
export function useMendAhead() {
  const begin = useBegin();
  return useCallback(() => begin("/ahead"), [begin]);
}

/** Work out ahead what is slow about a layer. */
export function useLayerAhead() {
  const begin = useBegin();
  return useCallback(
    (layer: string, percent: number) => begin(`/layers/${layer}/ahead`, { percent }),
    [begin],
  );
}

/** Start a layer's clip where it shows the same moment as the footage. */
export function useLineUp() {
  const begin = useBegin();
  return useCallback(
    (layer: string, by: "sound" | "picture") => begin(`/layers/${layer}/lineup`, { by }),
    [begin],
  );
}

/** Bend a mask's outline with what it shows, from the shapes that were drawn. */
export function useFollowMask() {
  const begin = useBegin();
  return useCallback(
    (thing: string, mask: string, frame: number, way: "both" | "on" | "back") =>
      begin(`/masks/${thing}/${mask}/follow`, { frame, way }),
    [begin],
  );
}

/** Deliver the shot as it is now. */
export function useDeliver() {
  const begin = useBegin();
  return useCallback(() => {
    // Asked while a creator waits for something, not when a page is opened.
    if ("Notification" in window && Notification.permission === "default")
      void Notification.requestPermission();
    return begin("/deliver");
  }, [begin]);
}

export async function stopJob(id: string): Promise<void> {
  try {
    const job = await post<Job>(`/jobs/${id}/stop`);
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}

export async function retryJob(id: string): Promise<void> {
  try {
    const job = await post<Job>(`/jobs/${id}/retry`);
    useLive.setState((s) => ({ jobs: { ...s.jobs, [job.id]: job } }));
  } catch (error) {
    say(error);
  }
}
