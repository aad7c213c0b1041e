import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import {
  type Advice,
  type Asset,
  type Boxes,
  type Delivery,
  type DeliveryFrame,
  type Job,
  type Kind,
  type Measurement,
  type ModelInfo,
  type OutputFile,
  type Project,
  type SavedFiles,
  type ShotBrief,
  type ShotRecord,
  type Slip,
  type ViewPath,
  get,
} from "~/api/client";
import { type Edits, editsOf, newest } from "~/api/edits";

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

export const useAssets = () =>
  useQuery({ queryKey: ["assets"], queryFn: () => get<Asset[]>("/assets"), staleTime: 0 });

/** What a 3D model's file says of itself. */
export const useModel = (digest: string) =>
  useQuery({
    queryKey: ["model", digest],
    queryFn: () => get<ModelInfo>(`/assets/${digest}/model`),
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

/** How the clip's frames lie in the picture, for a shot whose plate is treated. */
export const viewQuery = (record: ShotRecord) => ({
  queryKey: ["view", record.id, record.plate],
  queryFn: () => get<ViewPath>(`/shots/${record.id}/view?number=${record.number}`),
  enabled: record.document.plate.some((p) => p.shown),
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

/** Where a delivery frame lies in the picture, frame by frame. */
export const useBoxes = (record: ShotRecord, frame: DeliveryFrame) =>
  useQuery({
    queryKey: ["boxes", record.id, frame, record.spaces, record.plate, rangeOf(record)],
    queryFn: () => get<Boxes>(`/shots/${record.id}/delivery-frames/${frame.id}?number=${record.number}`),
    placeholderData: (before) => before,
    staleTime: Infinity,
  });

const rangeOf = ({ document: { footage } }: ShotRecord) =>
  footage && [footage.in_frame, footage.out_frame, footage.played_at, footage.time];

/** The files that delivering the shot makes. */
export const useOutputs = (record: ShotRecord, on: boolean) =>
  useQuery({
    queryKey: ["outputs", record.id, record.number],
    queryFn: () => get<OutputFile[]>(`/shots/${record.id}/outputs?number=${record.number}`),
    placeholderData: (before) => before,
    staleTime: Infinity,
    enabled: on,
  });

export const useSavedFiles = (on: boolean) =>
  useQuery({ queryKey: ["saved-files"], queryFn: () => get<SavedFiles[]>("/saved-files"), enabled: on });

export const useDeliveries = () =>
  useQuery({ queryKey: ["deliveries"], queryFn: () => get<Delivery[]>("/deliveries"), staleTime: 0 });

/** All work that is open or ended lately, for pages without a shot; what is heard meanwhile is newer. */
export const useAllJobs = () =>
  useQuery({ queryKey: ["jobs"], queryFn: () => get<Job[]>("/jobs"), staleTime: 0 });

export const useJobs = (shot: string) =>
  useQuery({
    queryKey: ["jobs", shot],
    queryFn: () => get<Job[]>(`/jobs?shot=${shot}`),
    staleTime: Infinity,
  });

/** Change a shot; the query cache holds the answer when the promise resolves. */
export function useEdits(shotId: string): Edits {
  const client = useQueryClient();
  return useMemo(() => editsOf(client, shotId), [client, shotId]);
}
