import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import {
  type DeliveryFrame,
  type Kind,
  type OutputFile,
  type SavedFiles,
  type ShotRecord,
  answered,
  api,
} from "~/api/client";
import { type Edits, editsOf, newest } from "~/api/edits";

export const useProjects = () =>
  useQuery({ queryKey: ["projects"], queryFn: () => answered(api.GET("/api/projects")) });

export const useShots = (project: string) =>
  useQuery({
    queryKey: ["shots", project],
    queryFn: () =>
      answered(api.GET("/api/projects/{project_id}/shots", { params: { path: { project_id: project } } })),
    staleTime: 0,
  });

export function useShot(id: string) {
  const client = useQueryClient();
  return useQuery({
    queryKey: ["shot", id],
    queryFn: async () =>
      newest(client, await answered(api.GET("/api/shots/{shot_id}", { params: { path: { shot_id: id } } }))),
  });
}

export const useAssets = () =>
  useQuery({ queryKey: ["assets"], queryFn: () => answered(api.GET("/api/assets")), staleTime: 0 });

/** What is known of one asset. */
export const useAsset = (digest: string | null) =>
  useQuery({
    queryKey: ["asset", digest],
    queryFn: () => answered(api.GET("/api/assets/{digest}", { params: { path: { digest: digest ?? "" } } })),
    enabled: digest !== null,
  }).data;

/** What a 3D model's file says of itself. */
export const useModel = (digest: string) =>
  useQuery({
    queryKey: ["model", digest],
    queryFn: () => answered(api.GET("/api/assets/{digest}/model", { params: { path: { digest } } })),
    staleTime: Infinity,
  });

export type Registry =
  | "motion"
  | "treatment"
  | "layer"
  | "generator"
  | "mask"
  | "key"
  | "look"
  | "place"
  | "footage"
  | "output"
  | "frame";

export const kindsQuery = (registry: Registry) => ({
  queryKey: ["kinds", registry],
  queryFn: () =>
    answered(api.GET("/api/kinds/{registry}", { params: { path: { registry } } })) as Promise<Kind[]>,
  staleTime: Infinity,
});

export const useKinds = (registry: Registry) => useQuery(kindsQuery(registry));

export const measurementQuery = (digest: string | null) => ({
  queryKey: ["measurement", digest],
  queryFn: () => answered(api.GET("/api/measurements/{digest}", { params: { path: { digest: digest! } } })),
  enabled: digest !== null,
  staleTime: Infinity,
});

export const useMeasurement = (digest: string | null) => useQuery(measurementQuery(digest));

/** How the clip's frames lie in the picture, for a shot whose plate is treated. */
export const viewQuery = (record: ShotRecord) => ({
  queryKey: ["view", record.id, record.plate],
  queryFn: () =>
    answered(
      api.GET("/api/shots/{shot_id}/view", {
        params: { path: { shot_id: record.id }, query: { number: record.number } },
      }),
    ),
  enabled: record.document.plate.some((p) => p.shown),
  staleTime: Infinity,
});

export const useSlips = (shot: string, version: number) =>
  useQuery({
    queryKey: ["slip", shot, version],
    queryFn: () => answered(api.GET("/api/shots/{shot_id}/slip", { params: { path: { shot_id: shot } } })),
    placeholderData: (before) => before,
    staleTime: Infinity,
  });

export const useAdvice = (clip: string | null, start: number, stop: number) =>
  useQuery({
    queryKey: ["advice", clip, start, stop],
    queryFn: () =>
      answered(
        api.GET("/api/clips/{digest}/advice", {
          params: { path: { digest: clip! }, query: { start, stop } },
        }),
      ),
    enabled: clip !== null,
    staleTime: Infinity,
    retry: false,
  });

/** Where a delivery frame lies in the picture, frame by frame. */
export const useBoxes = (record: ShotRecord, frame: DeliveryFrame) =>
  useQuery({
    queryKey: ["boxes", record.id, frame, record.spaces, record.plate, rangeOf(record)],
    queryFn: () =>
      answered(
        api.GET("/api/shots/{shot_id}/delivery-frames/{frame_id}", {
          params: { path: { shot_id: record.id, frame_id: frame.id }, query: { number: record.number } },
        }),
      ),
    placeholderData: (before) => before,
    staleTime: Infinity,
  });

const rangeOf = ({ document: { footage } }: ShotRecord) =>
  footage && [footage.in_frame, footage.out_frame, footage.played_at, footage.time];

/** The files that delivering the shot makes. */
export const useOutputs = (record: ShotRecord, on: boolean) =>
  useQuery({
    queryKey: ["outputs", record.id, record.number],
    queryFn: () =>
      answered(
        api.GET("/api/shots/{shot_id}/outputs", {
          params: { path: { shot_id: record.id }, query: { number: record.number } },
        }),
      ) as Promise<OutputFile[]>,
    placeholderData: (before) => before,
    staleTime: Infinity,
    enabled: on,
  });

export const useSavedFiles = (on: boolean) =>
  useQuery({
    queryKey: ["saved-files"],
    queryFn: () => answered(api.GET("/api/saved-files")) as Promise<SavedFiles[]>,
    enabled: on,
  });

export const useDeliveries = () =>
  useQuery({ queryKey: ["deliveries"], queryFn: () => answered(api.GET("/api/deliveries")), staleTime: 0 });

/** All work that is open or ended lately, for pages without a shot; what is heard meanwhile is newer. */
export const useAllJobs = () =>
  useQuery({ queryKey: ["jobs"], queryFn: () => answered(api.GET("/api/jobs")), staleTime: 0 });

export const useJobs = (shot: string) =>
  useQuery({
    queryKey: ["jobs", shot],
    queryFn: () => answered(api.GET("/api/jobs", { params: { query: { shot } } })),
    staleTime: Infinity,
  });

/** Change a shot; the query cache holds the answer when the promise resolves. */
export function useEdits(shotId: string): Edits {
  const client = useQueryClient();
  return useMemo(() => editsOf(client, shotId), [client, shotId]);
}
