import { useState } from "react";
import { useLive } from "~/api/events";
import { useDeliveries, useOutputs } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { Dialog } from "~/ui/Dialog";
import { OnOff } from "~/ui/OnOff";
import { Progress } from "~/ui/Progress";
import { retryJob, stopJob, useDeliver } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { DeliverFiles } from "~/workspace/DeliverFiles";
import { kindOf } from "~/workspace/kinds";
import { act, useWorkspace } from "~/workspace/store";
import { fpsOf } from "~/workspace/viewer/rates";

/** The files that are made, size, sound; then progress in place and the finished files. */
export function DeliverDialog() {
  const { record, edits } = useOpenShot();
  const open = useWorkspace((s) => s.deliverOpen);
  const [jobId, setJobId] = useState<string | null>(null);
  const job = useLive((s) => (jobId ? s.jobs[jobId] : undefined));
  const deliver = useDeliver();
  const { data: files = [] } = useOutputs(record, open);
  const shot = record.document;
  const footage = shot.footage;
  if (!footage) return null;
  const frames = footage.out_frame - footage.in_frame + 1;
  const fps = fpsOf(footage);
  const levels = kindOf("footage", "sound")?.schema.properties?.["level"]?.["x-plonket"]?.names ?? {};
  const set = (key: string, value: unknown) =>
    void edits.edit("Delivery settings", [{ op: "replace", path: `/delivery/${key}`, value }]);

  const start = async () => {
    const made = await deliver();
    if (made) setJobId(made.id);
  };
  const working = job && ["queued", "running", "stopping"].includes(job.state);

  return (
    <Dialog
      wide
      open={open}
      onOpenChange={(on) => act({ do: "open", what: "deliver", on })}
      title={`Deliver ${shot.name}`}
    >
      <p className="num mb-3 text-ink-2">
        Frames {footage.in_frame}–{footage.out_frame} · {frames} frames · {(frames / fps).toFixed(2)} s ·{" "}
        {Math.round(fps * 100) / 100} frames/s
      </p>
      <DeliverFiles files={files} />
      <div className="mb-4 flex flex-wrap items-center gap-x-5 gap-y-2 border-t border-line pt-3">
        <span className="flex items-center gap-2">
          Size
          <span className="w-28">
            <Choice
              label="Size"
              value={shot.delivery.scale}
              names={{ full: "Full size", half: "Half size" }}
              onChange={(v) => set("scale", v)}
            />
          </span>
        </span>
        <span className="flex items-center gap-2">
          Sound
          <OnOff label="Sound" checked={shot.delivery.sound} onChange={(on) => set("sound", on)} />
        </span>
        {shot.delivery.sound && !shot.sound.muted && (
          <span className="flex items-center gap-2">
            Loudness
            <span className="w-52">
              <Choice
                label="Loudness"
                value={shot.sound.level}
                names={levels}
                onChange={(v) =>
                  void edits.edit("Loudness of the sound", [
                    { op: "replace", path: "/sound/level", value: v },
                  ])
                }
              />
            </span>
          </span>
        )}
      </div>
      {job && (
        <div
          className="mb-4 rounded-lg border border-line bg-raise p-3"
          data-testid="delivery-state"
          data-state={job.state}
        >
          {working && (
            <div className="flex items-center gap-3">
              <Progress done={job.done} total={job.total} label={job.label} />
              <span className="num">
                {job.done} / {job.total}
                {job.seconds_left !== null && ` · ${Math.max(1, Math.round(job.seconds_left))} s left`}
              </span>
              <button className="font-semibold text-tide" onClick={() => void stopJob(job.id)}>
                Stop
              </button>
            </div>
          )}
          {job.state === "done" && <Made ids={(job.result["deliveries"] as string[] | undefined) ?? []} />}
          {(job.state === "failed" || job.state === "stopped") && (
            <div className="flex items-center justify-between gap-3 text-brick">
              {job.message} Finished frames are kept.
              <Button onClick={() => void retryJob(job.id)}>Go on</Button>
            </div>
          )}
        </div>
      )}
      <div className="flex items-center gap-2">
        <p className="flex-1 text-xs text-ink-2">
          Closing this or the browser does not stop it; finished files are under Deliveries.
        </p>
        <Button onClick={() => act({ do: "open", what: "deliver", on: false })}>Close</Button>
        <Button look="primary" disabled={Boolean(working)} onClick={() => void start()}>
          {job?.state === "done" ? "Deliver again" : "Deliver"}
        </Button>
      </div>
    </Dialog>
  );
}

/** What was made, to be saved. */
function Made({ ids }: { ids: string[] }) {
  const { data } = useDeliveries();
  const made = ids.map((id) => ({ id, one: data?.find((d) => d.id === id) }));
  return (
    <ul className="grid gap-2">
      {made.map(({ id, one }) => (
        <li key={id} className="flex items-center justify-between gap-3">
          <span className="min-w-0 truncate">
            <b>Finished.</b> {one && `${one.file} · ${(one.bytes / 1e6).toFixed(1)} MB`}
          </span>
          <a
            className="rounded-[7px] bg-tide px-3 py-1.5 font-semibold whitespace-nowrap text-on-tide"
            href={`/api/deliveries/${id}/file?download`}
            download
          >
            {made.length > 1 ? `Download ${one?.label ?? ""}` : "Download the video"}
          </a>
        </li>
      ))}
    </ul>
  );
}
