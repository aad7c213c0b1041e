import { useQuery } from "@tanstack/react-query";
import { get } from "~/api/client";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { Progress } from "~/ui/Progress";
import { stopJob, useMendAhead } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";

/** Filling takes its time: all frames of the range can be worked out ahead, to play and deliver at once. */
export function Ahead() {
  const { record, shotId } = useOpenShot();
  const run = useMendAhead();
  const job = useLive((s) =>
    Object.values(s.jobs).find(
      (j) => j.shot === shotId && j.kind === "mend" && ["queued", "running", "stopping"].includes(j.state),
    ),
  );
  const { data } = useQuery({
    queryKey: ["ahead", shotId, record.number, Boolean(job)],
    queryFn: () => get<{ done: number; total: number; unseen: number | null }>(`/shots/${shotId}/ahead`),
  });
  if (!data) return null;
  const all = data.done === data.total;
  return (
    <Group title="Ahead">
      {job ? (
        <div className="flex items-center gap-2 text-xs text-ink-2">
          <span className="num">
            {job.done} / {job.total}
          </span>
          <Progress done={job.done} total={job.total} label="Frames filled" />
          <Button onClick={() => void stopJob(job.id)}>Stop</Button>
        </div>
      ) : (
        <div className="flex items-center justify-between gap-2 text-xs text-ink-2">
          <span>
            {all ? (
              "All frames are filled."
            ) : (
              <span className="num">{`${data.done} of ${data.total} filled`}</span>
            )}
          </span>
          {!all && <Button onClick={() => void run()}>Fill all frames now</Button>}
        </div>
      )}
      {data.unseen !== null && data.unseen > 0.005 && (
        <p className="mt-1 rounded-md bg-brick-2 px-2 py-1 text-xs text-brick">
          <span className="num">{(100 * data.unseen).toFixed(data.unseen > 0.1 ? 0 : 1)} %</span> of what is
          borrowed is seen in no frame. It was made up from its edges.
        </p>
      )}
    </Group>
  );
}
