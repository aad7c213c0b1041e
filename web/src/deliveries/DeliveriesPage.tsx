import { useQueryClient } from "@tanstack/react-query";
import { ChevronDown, ChevronUp, Trash2 } from "lucide-react";
import { Link } from "wouter";
import { type Delivery, type Job, answered, api } from "~/api/client";
import { useLive } from "~/api/events";
import { useAllJobs, useDeliveries } from "~/api/queries";
import { PageFrame } from "~/app/PageFrame";
import { Button } from "~/ui/Button";
import { complain, mention } from "~/ui/Notices";
import { Progress } from "~/ui/Progress";
import { placeJob, retryJob, stopJob } from "~/workspace/actions/jobs";

const ROW = "mb-3 flex items-center gap-3 rounded-lg border border-line bg-raise p-3";

export function DeliveriesPage() {
  const { data, error } = useDeliveries();
  const client = useQueryClient();
  const jobs = useLive((s) => s.jobs);
  const onShelf = async (one: Delivery) => {
    try {
      await answered(
        api.POST("/api/deliveries/{delivery_id}/bring-in", { params: { path: { delivery_id: one.id } } }),
      );
      await client.invalidateQueries({ queryKey: ["assets"] });
      mention(`${one.name} is among the clips of the shelf.`);
    } catch (problem) {
      complain(problem instanceof Error ? problem.message : String(problem));
    }
  };
  const { data: known = [] } = useAllJobs();
  const every = { ...Object.fromEntries(known.map((j) => [j.id, j])), ...jobs };
  const deliveries = Object.values(every)
    .filter((j) => j.kind === "deliver" && j.state !== "done")
    .sort((p, q) => p.rank - q.rank);
  const working = deliveries.filter((j) => ["queued", "running", "stopping"].includes(j.state));
  const halted = deliveries.filter((j) => ["stopped", "failed"].includes(j.state) && jobs[j.id]);
  return (
    <PageFrame title="Deliveries">
      {error && <p className="text-brick">{error.message}</p>}
      {working.map((job, at) => (
        <div key={job.id} className={ROW} data-testid="delivering">
          {working.length > 1 && (
            <span className="flex flex-col">
              <Place job={job} sooner disabled={at === 0} />
              <Place job={job} sooner={false} disabled={at === working.length - 1} />
            </span>
          )}
          <b className="whitespace-nowrap">{job.label}</b>
          <Progress done={job.done} total={job.total} label={job.label} />
          <span className="num whitespace-nowrap">
            {job.state === "queued" ? "waits" : `${job.done} / ${job.total}`}
            {at === 0 &&
              job.seconds_left !== null &&
              ` · ${Math.max(1, Math.round(job.seconds_left))} s left`}
          </span>
          <Button title="Frames that are finished are kept" onClick={() => void stopJob(job.id)}>
            Pause
          </Button>
        </div>
      ))}
      {halted.map((job) => (
        <div key={job.id} className={ROW}>
          <b className="whitespace-nowrap">{job.label}</b>
          <span className={`flex-1 ${job.state === "failed" ? "text-brick" : "text-ink-2"}`}>
            {job.state === "failed" ? job.message : `Paused at ${job.done} of ${job.total}.`}
          </span>
          <Button onClick={() => void retryJob(job.id)}>Go on</Button>
        </div>
      ))}
      {data && !data.length && !working.length && (
        <p className="text-ink-2">Nothing has been delivered yet. Open a shot and press Deliver.</p>
      )}
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(320px,1fr))] gap-4">
        {data?.map((d) => {
          const [n = 25, k = 1] = d.rate.split("/").map(Number);
          return (
            <li key={d.id} className="overflow-hidden rounded-xl border border-line bg-raise">
              <Shown delivery={d} />
              <div className="relative p-3">
                <b className="block truncate pr-8 text-sm">{d.name}</b>
                <span className="block text-xs text-ink-2">{d.label}</span>
                <span className="num text-ink-2">
                  {d.shows !== "sound" && `${d.width} × ${d.height} · `}
                  {d.kind !== "still" && `${d.frames} fr · ${((d.frames * k) / n).toFixed(2)} s · `}
                  {(d.bytes / 1e6).toFixed(1)} MB
                </span>
                <div className="mt-2.5 flex flex-wrap items-center gap-2 whitespace-nowrap">
                  <a
                    className="rounded-[7px] bg-tide px-3 py-1.5 font-semibold text-on-tide"
                    href={`/api/deliveries/${d.id}/file?download`}
                    download
                  >
                    Download
                  </a>
                  {d.shot && (
                    <Link href={`/shots/${d.shot}`} className="rounded-[7px] border border-line px-3 py-1.5">
                      Open the shot
                    </Link>
                  )}
                  <Button
                    title="Among the clips of the shelf, to be plonked or to make a shot on"
                    onClick={() => void onShelf(d)}
                  >
                    To the shelf
                  </Button>
                  <Button
                    look="quiet"
                    className="absolute top-1.5 right-1.5"
                    aria-label="Remove"
                    title="Remove"
                    onClick={async () => {
                      await answered(
                        api.DELETE("/api/deliveries/{delivery_id}", {
                          params: { path: { delivery_id: d.id } },
                        }),
                      );
                      await client.invalidateQueries({ queryKey: ["deliveries"] });
                    }}
                  >
                    <Trash2 className="size-3.5" />
                  </Button>
                </div>
              </div>
            </li>
          );
        })}
      </ul>
    </PageFrame>
  );
}

/** Has a delivery made before the one above it, or after the one below. */
function Place({ job, sooner, disabled }: { job: Job; sooner: boolean; disabled: boolean }) {
  const Arrow = sooner ? ChevronUp : ChevronDown;
  return (
    <button
      className="text-ink-2 hover:text-tide disabled:opacity-30"
      aria-label={`Make ${job.label} ${sooner ? "sooner" : "later"}`}
      title={sooner ? "Sooner" : "Later"}
      disabled={disabled}
      onClick={() => void placeJob(job.id, sooner)}
    >
      <Arrow className="size-4" />
    </button>
  );
}

/** The file as far as a browser can show it. */
function Shown({ delivery: d }: { delivery: Delivery }) {
  const src = `/api/deliveries/${d.id}/file`;
  const fills = "aspect-video w-full bg-black object-contain";
  if (d.shows === "video")
    return <video controls preload="metadata" className={fills} src={src} aria-label={d.name} />;
  if (d.shows === "picture") return <img className={fills} src={src} alt={d.name} loading="lazy" />;
  if (d.shows === "sound")
    return (
      <span className="grid aspect-video w-full place-items-center bg-well px-6">
        <audio controls preload="metadata" className="w-full" src={src} aria-label={d.name} />
      </span>
    );
  return (
    <p className="grid aspect-video w-full place-items-center bg-well px-8 text-center text-xs text-on-well-2">
      {d.label}, for other programs. Browsers do not show it.
    </p>
  );
}
