import type { QueryClient } from "@tanstack/react-query";
import { create } from "zustand";
import type { Job } from "~/api/client";
import { heardOf } from "~/api/edits";
import { complain, mention } from "~/ui/Notices";

/** One frame of a point while it is measured: [point, frame, x, y, confidence, state, reason]. */
export type PointRow = [number, number, number, number, number, number, number];
/** One frame of a plane: frame, confidence, state, reason, freedom, then the homography's nine numbers. */
export type PlaneRow = number[];
/** One frame of a form: frame, confidence, state, reason, then its pose: place (3) and turn (4). */
export type FormRow = number[];
type Kind = "points" | "plane" | "form";

/** What has been measured so far of a motion; rows by "point:frame", or by frame for a plane or a form. */
export interface PartialTracks {
  job: string;
  kind: Kind;
  ids: string[];
  rows: Map<string, number[]>;
  last: number;
}

interface LiveState {
  jobs: Record<string, Job>;
  partial: Record<string, PartialTracks>;
  connected: boolean;
}

/** What the server says while it works; lost on reload, when it is asked for afresh. */
export const useLive = create<LiveState>(() => ({ jobs: {}, partial: {}, connected: true }));

export interface PartialEvent {
  job: string;
  motion: string;
  kind: Kind;
  ids: string[];
  rows: number[][];
}

export function takePartial(event: PartialEvent): void {
  useLive.setState((s) => {
    const old = s.partial[event.motion];
    const rows = new Map(old?.job === event.job ? old.rows : []);
    const points = event.kind === "points";
    for (const row of event.rows) rows.set(points ? `${row[0]}:${row[1]}` : `${row[0]}`, row);
    const last = event.rows.at(-1)?.[points ? 1 : 0] ?? 0;
    const { job, kind, ids } = event;
    return { partial: { ...s.partial, [event.motion]: { job, kind, ids, rows, last } } };
  });
}

export function takeJob(job: Job, client: QueryClient): void {
  useLive.setState((s) => {
    const ended = ["done", "failed", "stopped"].includes(job.state);
    const partial = ended
      ? Object.fromEntries(Object.entries(s.partial).filter(([motion]) => motion !== job.motion))
      : s.partial;
    return { jobs: { ...s.jobs, [job.id]: job }, partial };
  });
  if (job.kind === "deliver" && job.state === "done") {
    void client.invalidateQueries({ queryKey: ["deliveries"] });
    delivered(job);
  }
  if (job.kind === "deliver" && job.state === "failed") complain(job.message);
  if (job.kind === "unpack" && job.state === "done") {
    void client.invalidateQueries({ queryKey: ["projects"] });
    void client.invalidateQueries({ queryKey: ["shots"] });
    void client.invalidateQueries({ queryKey: ["assets"] });
    mention(`${String(job.result["name"])} is open; its clips are being prepared.`);
  }
  if ((job.kind === "unpack" || job.kind === "pack") && job.state === "failed") complain(job.message);
  if (job.kind === "lineup" && job.state === "done")
    mention(
      `${String(job.result["name"])} begins at frame ${String(job.result["starts"])} (${String(job.result["says"])})`,
    );
  if (job.kind === "follow" && job.state === "done") mention(followedSays(job));
  if (job.kind === "conform" && job.state === "failed")
    void client.invalidateQueries({ queryKey: ["assets"] });
}

/** Says that a delivery is ready; outside of the page too, if the creator looks elsewhere and has allowed it. */
function delivered(job: Job): void {
  const text = `${job.label.replace(/^Delivering /, "")} is delivered.`;
  mention(text);
  const allowed = typeof Notification !== "undefined" && Notification.permission === "granted";
  if (allowed && document.hidden) new Notification(text);
}

/** What came of following an outline, in words. */
function followedSays({ result }: Job): string {
  const name = String(result["name"]);
  const from = result["stopped"];
  if (from === null || from === undefined) return `${name} follows what it shows, in every frame`;
  const why =
    result["why"] === "left"
      ? "it leaves the picture there"
      : "it looks too different there: draw it, and follow again";
  return `${name} follows what it shows up to frame ${String(from)}: ${why}`;
}

/** Keep one stream of events open for the life of the page; the browser reconnects by itself. */
export function listen(client: QueryClient): void {
  const source = new EventSource("/api/events");
  source.onopen = () => useLive.setState({ connected: true });
  source.onerror = () => useLive.setState({ connected: false });
  source.addEventListener("job", (e) => takeJob(JSON.parse(e.data) as Job, client));
  source.addEventListener("partial", (e) => takePartial(JSON.parse(e.data) as PartialEvent));
  source.addEventListener("slip", (e) => {
    const { shot } = JSON.parse(e.data) as { shot: string };
    void client.invalidateQueries({ queryKey: ["slip", shot] });
  });
  source.addEventListener("asset", () => void client.invalidateQueries({ queryKey: ["assets"] }));
  source.addEventListener("shot", (e) => {
    const { shot, version } = JSON.parse(e.data) as { shot: string; version: number };
    void heardOf(client, shot, version);
  });
}
