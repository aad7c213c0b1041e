import { type QueryClient, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import {
  type Advice,
  type Asset,
  type Delivery,
  type Job,
  type Kind,
  type Measurement,
  type Motion,
  type PatchStep,
  type Project,
  type ShotBrief,
  type ShotRecord,
  type Shot,
  type Slip,
  type ViewPath,
  ApiError,
  get,
  post,
} from "~/api/client";
import { inLine } from "~/api/line";
import { complain, mention } from "~/ui/Notices";

export const useProjects = () =>
  useQuery({ queryKey: ["projects"], queryFn: () => get<Project[]>("/projects") });

export const useShots = (project: string) =>
  useQuery({
    queryKey: ["shots", project],
    queryFn: () => get<ShotBrief[]>(`/projects/${project}/shots`),
    staleTime: 0,
  });

export function useShot(id: string) {
  const client = useQueryClient();
  return useQuery({
    queryKey: ["shot", id],
    queryFn: async () => newest(client, await get<ShotRecord>(`/shots/${id}`)),
  });
}

/** The later of an answer and what is here already: an answer may be overtaken by another on its way. */
function newest(client: QueryClient, answer: ShotRecord): ShotRecord {
  const here = client.getQueryData<ShotRecord>(["shot", answer.id]);
  return here && here.turn > answer.turn ? here : answer;
}

/** A shot was changed for the `turn`th time, here or elsewhere: fetch it, unless that is what is here by its turn in the line. */
export const heardOf = (client: QueryClient, shot: string, turn: number) =>
  inLine(async () => {
    const here = client.getQueryData<ShotRecord>(["shot", shot]);
    if (here && here.turn < turn) await client.invalidateQueries({ queryKey: ["shot", shot] });
  });

export const useAssets = () =>
  useQuery({ queryKey: ["assets"], queryFn: () => get<Asset[]>("/assets"), staleTime: 0 });

type Registry = "motion" | "treatment" | "layer" | "generator" | "mask" | "key" | "look" | "place";

export const kindsQuery = (registry: Registry) => ({
  queryKey: ["kinds", registry],
  queryFn: () => get<Kind[]>(`/kinds/${registry}`),
  staleTime: Infinity,
});

export const useKinds = (registry: Registry) => useQuery(kindsQuery(registry));

export const measurementQuery = (digest: string | null) => ({
  queryKey: ["measurement", digest],
  queryFn: () => get<Measurement>(`/measurements/${digest}`),
  enabled: digest !== null,
  staleTime: Infinity,
});

export const useMeasurement = (digest: string | null) => useQuery(measurementQuery(digest));

/**
 * What followers of a motion take, from a reference frame; asked anew when the motion is set otherwise, and for the
 * very revision in which it is: the shot may have gone on when the answer is made.
 */
export const movementQuery = (
  shot: string,
  number: number,
  motion: Motion,
  reference: number,
  smooth: number,
  inverted: boolean,
) => ({
  queryKey: ["movement", shot, JSON.stringify(motion), reference, smooth, inverted],
  queryFn: () =>
    get<number[][]>(
      `/shots/${shot}/motions/${motion.id}/movement?reference=${reference}&smooth=${smooth}&inverted=${inverted}&number=${number}`,
    ),
  enabled: motion.measurement !== null,
  staleTime: Infinity,
});

/** How the clip's frames lie in the picture, for a shot whose plate is treated. */
export const viewQuery = (shot: string, number: number, document: Shot) => ({
  queryKey: [
    "view",
    shot,
    JSON.stringify([
      document.plate,
      document.motions,
      document.footage?.in_frame,
      document.footage?.out_frame,
    ]),
  ],
  queryFn: () => get<ViewPath>(`/shots/${shot}/view?number=${number}`),
  enabled: document.plate.some((p) => p.shown),
  staleTime: Infinity,
});

export const useSlips = (shot: string, version: number) =>
  useQuery({
    queryKey: ["slip", shot, version],
    queryFn: () => get<Slip[]>(`/shots/${shot}/slip`),
    placeholderData: (before) => before,
    staleTime: Infinity,
  });

export const useAdvice = (clip: string | null, start: number, stop: number) =>
  useQuery({
    queryKey: ["advice", clip, start, stop],
    queryFn: () => get<Advice>(`/clips/${clip}/advice?start=${start}&stop=${stop}`),
    enabled: clip !== null,
    staleTime: Infinity,
    retry: false,
  });

export const useDeliveries = () =>
  useQuery({ queryKey: ["deliveries"], queryFn: () => get<Delivery[]>("/deliveries"), staleTime: 0 });

export const useJobs = (shot: string) =>
  useQuery({
    queryKey: ["jobs", shot],
    queryFn: () => get<Job[]>(`/jobs?shot=${shot}`),
    staleTime: Infinity,
  });

/** Steps, or what makes them from the shot as it will be when their turn comes. */
export type Change = PatchStep[] | ((shot: Shot) => PatchStep[]);

/** Ways to change a shot, in line; each answers with null when it was refused, and says why. */
export interface Edits {
  edit: (label: string, change: Change) => Promise<ShotRecord | null>;
  undo: () => Promise<void>;
  redo: () => Promise<void>;
  /** Something that the server works out; `shotIn` finds the changed shot where it is not the whole answer. */
  ask: {
    (path: string, body: unknown): Promise<ShotRecord | null>;
    <T>(path: string, body: unknown, shotIn: (answer: T) => ShotRecord): Promise<T | null>;
  };
}

const whole = (answer: ShotRecord) => answer;

/** Change a shot; the query cache holds the answer when the promise resolves. */
export function useEdits(shotId: string): Edits {
  const client = useQueryClient();
  return useMemo(() => {
    const now = () => client.getQueryData<ShotRecord>(["shot", shotId]);
    const send = <T>(path: string, bodyOf: () => unknown, shotIn: (answer: T) => ShotRecord) =>
      inLine(async () => {
        const body = bodyOf();
        if (body === null) return null;
        try {
          const answer = await post<T>(`/shots/${shotId}${path}`, body);
          client.setQueryData(["shot", shotId], newest(client, shotIn(answer)));
          return answer;
        } catch (error) {
          await client.invalidateQueries({ queryKey: ["shot", shotId] });
          complain(error instanceof ApiError ? error.message : String(error));
          return null;
        }
      });
    const step = async (path: "/undo" | "/redo", word: string) => {
      let what: string | null = null;
      const ready = () => {
        // What an edit that was still on its way has made is there by now.
        what = now()?.[path === "/undo" ? "undo" : "redo"] ?? null;
        return what === null ? null : {};
      };
      const done = await send(path, ready, whole);
      if (done) mention(`${word}: ${what}`);
    };
    return {
      edit: (label, change) =>
        send(
          "/edits",
          () => {
            const shot = now()?.document;
            const patch = typeof change !== "function" ? change : shot ? change(shot) : [];
            return patch.length ? { label, patch } : null;
          },
          whole,
        ),
      undo: () => step("/undo", "Undone"),
      redo: () => step("/redo", "Done again"),
      ask: <T>(path: string, body: unknown, shotIn?: (answer: T) => ShotRecord) =>
        send<T>(path, () => body, shotIn ?? ((answer) => answer as ShotRecord)),
    };
  }, [client, shotId]);
}
