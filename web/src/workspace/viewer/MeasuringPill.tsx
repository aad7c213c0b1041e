import { useLive } from "~/api/events";
import { Progress } from "~/ui/Progress";
import { retryJob, stopJob } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";

const time = (s: number) => (s >= 90 ? `${Math.round(s / 60)} min` : `${Math.max(1, Math.round(s))} s`);

/** Long work on this shot, in place: what, how far, how long, Stop. */
export function MeasuringPill() {
  const { shotId } = useOpenShot();
  const jobs = useLive((s) => s.jobs);
  const open = Object.values(jobs).filter(
    (j) => j.shot === shotId && j.kind !== "conform" && ["queued", "running", "stopping"].includes(j.state),
  );
  const failed = Object.values(jobs).find(
    (j) =>
      j.shot === shotId && ["measure", "ahead", "lineup", "follow"].includes(j.kind) && j.state === "failed",
  );
  if (!open.length && !failed) return null;
  return (
    <div className="absolute bottom-2.5 left-4 flex flex-col gap-1.5">
      {open.map((job) => (
        <div
          key={job.id}
          className="flex items-center gap-2 rounded-full bg-(--on-picture) py-1 pr-1.5 pl-3 text-xs text-(--dark-on-picture)"
        >
          <b className="font-semibold">{job.label}</b>
          <span className="num">
            {job.done} / {job.total}
          </span>
          <span className="flex w-20">
            <Progress done={job.done} total={job.total} label={job.label} />
          </span>
          {job.seconds_left !== null && <span className="num opacity-75">{time(job.seconds_left)} left</span>}
          <button
            className="rounded-full px-2 py-0.5 font-semibold hover:bg-black/10"
            onClick={() => void stopJob(job.id)}
          >
            {job.state === "stopping" ? "Stopping" : "Stop"}
          </button>
        </div>
      ))}
      {!open.length && failed && (
        <div className="flex max-w-lg items-center gap-2 rounded-2xl border border-brick bg-brick-2 px-3 py-1.5 text-xs text-brick">
          <span>{failed.message}</span>
          <button className="font-semibold underline" onClick={() => void retryJob(failed.id)}>
            Try again
          </button>
          <button
            aria-label="Dismiss"
            onClick={() =>
              useLive.setState((s) => ({
                jobs: Object.fromEntries(Object.entries(s.jobs).filter(([k]) => k !== failed.id)),
              }))
            }
          >
            ✕
          </button>
        </div>
      )}
    </div>
  );
}
