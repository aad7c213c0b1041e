import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Job, answered, api } from "~/api/client";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { OnOff } from "~/ui/OnOff";
import { Progress } from "~/ui/Progress";
import { stopJob, useLayerAhead, useMendAhead } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";

/** The job of a kind that is under way, and a word that changes whenever one of them starts or ends. */
function useAheadJob(is: (job: Job) => boolean) {
  const jobs = useLive((s) => s.jobs);
  const mine = Object.values(jobs).filter(is);
  const under = (j: Job) => ["queued", "running", "stopping"].includes(j.state);
  // A job may be over before its start was drawn: the ones that ended tell as much as the one that runs.
  const told = `${mine.find(under)?.id ?? ""} ${mine.filter((j) => !under(j)).length}`;
  return { job: mine.find(under), told };
}

/** Share of what is borrowed that is seen in no frame, from which on it wants a look. */
const MADE_UP = 0.005;

/** Filling takes its time: all frames of the range can be worked out ahead, to play and deliver at once. */
export function Ahead() {
  const { record, shotId } = useOpenShot();
  const run = useMendAhead();
  const { job, told } = useAheadJob((j) => j.shot === shotId && j.kind === "mend");
  const { data } = useQuery({
    queryKey: ["ahead", shotId, record.number, told],
    placeholderData: (before, query) => (query?.queryKey[1] === shotId ? before : undefined),
    queryFn: () => answered(api.GET("/api/shots/{shot_id}/ahead", { params: { path: { shot_id: shotId } } })),
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
      {data.says && (
        <p
          className={`mt-1 text-xs ${data.unseen! > MADE_UP ? "rounded-md bg-brick-2 px-2 py-1 text-brick" : "text-ink-2"}`}
        >
          {data.says}
        </p>
      )}
    </Group>
  );
}

/** What is slow about a layer, worked out over the range, so that it plays and delivers at once. */
export function LayerAhead({ layer, what }: { layer: string; what: "filmed" | "cut out" }) {
  const { record, shotId } = useOpenShot();
  const [full, setFull] = useState(false);
  const percent = full ? 100 : 50;
  const run = useLayerAhead();
  const { job, told } = useAheadJob((j) => j.shot === shotId && j.kind === "ahead" && j.layer === layer);
  const { data } = useQuery({
    queryKey: ["layer-ahead", shotId, record.number, layer, percent, told],
    // What was known before stands until it is counted again: the button does not go from under the pointer.
    placeholderData: (before, query) =>
      query?.queryKey[3] === layer && query.queryKey[4] === percent ? before : undefined,
    queryFn: () =>
      answered(
        api.GET("/api/shots/{shot_id}/layers/{layer_id}/ahead", {
          params: { path: { shot_id: shotId, layer_id: layer }, query: { percent } },
        }),
      ),
  });
  if (!data?.slow) return null;
  return (
    <Group title="Ahead">
      {job ? (
        <div className="flex items-center gap-2 text-xs text-ink-2">
          <span className="num">
            {job.done} / {job.total}
          </span>
          <Progress done={job.done} total={job.total} label={`Frames ${what}`} />
          <Button onClick={() => void stopJob(job.id)}>Stop</Button>
        </div>
      ) : (
        <div className="flex items-center justify-between gap-2 text-xs text-ink-2">
          <span className="num">
            {data.done === data.total ? `All frames are ${what}.` : `${data.done} of ${data.total} ${what}`}
          </span>
          {data.done < data.total && <Button onClick={() => void run(layer, percent)}>All frames now</Button>}
        </div>
      )}
      {what === "filmed" && (
        <Row label="At full size" help="For delivering; without it, what is needed for playing">
          <OnOff label="At full size" checked={full} onChange={setFull} />
        </Row>
      )}
    </Group>
  );
}
