import { useCallback } from "react";
import { type Job, ApiError, post } from "~/api/client";
import { useLive } from "~/api/events";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";

const say = (error: unknown) => complain(error instanceof ApiError ? error.message : String(error));

export type Direction = "both" | "forward" | "backward" | "gap";

/** Start measuring a motion. */
export function useMeasure() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (motion: string, direction: Direction, origin: number | null) => {
      try {
        const job = await post<Job>(`/shots/${shotId}/motions/${motion}/measure`, { direction, origin });
        useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      } catch (error) {
        say(error);
      }
    },
    [shotId],
  );
}

/** Measure how things slip: all followers whose slip is not known, or only some. */
export function useCheckSlip() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (layers: string[] | null = null) => {
      try {
        const job = await post<Job | null>(`/shots/${shotId}/slip`, { layers });
        if (job) useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      } catch (error) {
        say(error);
      }
    },
    [shotId],
  );
}

/** Work the mended frames of the range out ahead. */
export function useMendAhead() {
  const { shotId } = useOpenShot();
  return useCallback(async () => {
    try {
      const job = await post<Job>(`/shots/${shotId}/ahead`);
      useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
    } catch (error) {
      say(error);
    }
  }, [shotId]);
}

/** Work out ahead what is slow about a layer. */
export function useLayerAhead() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (layer: string, percent: number) => {
      try {
        const job = await post<Job>(`/shots/${shotId}/layers/${layer}/ahead`, { percent });
        useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      } catch (error) {
        say(error);
      }
    },
    [shotId],
  );
}

/** Start a layer's clip where it shows the same moment as the footage. */
export function useLineUp() {
  const { shotId } = useOpenShot();
  return useCallback(
    async (layer: string, by: "sound" | "picture") => {
      try {
        const job = await post<Job>(`/shots/${shotId}/layers/${layer}/lineup`, { by });
        useLive.setState((s) => ({ jobs: { [job.id]: job, ...s.jobs } }));
      } catch (error) {
        say(error);
      }
    },
    [shotId],
  );
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
