import { useState } from "react";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { Dialog } from "~/ui/Dialog";
import { OnOff } from "~/ui/OnOff";
import { Progress } from "~/ui/Progress";
import { retryJob, stopJob, useDeliver } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { kindOf } from "~/workspace/kinds";
import { act, useWorkspace } from "~/workspace/store";
import { fpsOf } from "~/workspace/viewer/rates";

/** Quality, size, sound; then progress in place and the finished file. */
export function DeliverDialog() {
  const { record, edits } = useOpenShot();
  const open = useWorkspace((s) => s.deliverOpen);
  const [jobId, setJobId] = useState<string | null>(null);
  const job = useLive((s) => (jobId ? s.jobs[jobId] : undefined));
  const deliver = useDeliver();
  const shot = record.document;
  const footage = shot.footage;
  if (!footage) return null;
  const frames = footage.out_frame - footage.in_frame + 1;
  const fps = fpsOf(footage);
  const levels = kindOf("footage", "sound")?.schema.properties?.["level"]?.["x-plonket"]?.names ?? {};
  const half = shot.delivery.scale === "half";
  const set = (key: string, value: unknown) =>
    void edits.edit("Delivery settings", [{ op: "replace", path: `/delivery/${key}`, value }]);

  const start = async () => {
    const made = await deliver();
    if (made) setJobId(made.id);
  };
  const delivery = typeof job?.result["delivery"] === "string" ? job.result["delivery"] : null;
  const working = job && ["queued", "running", "stopping"].includes(job.state);

  return (
    <Dialog
      open={open}
      onOpenChange={(on) => act({ do: "open", what: "deliver", on })}
      title={`Deliver ${shot.name}`}
    >
      <p className="num mb-4 text-ink-2">
        Frames {footage.in_frame}–{footage.out_frame} · {frames} frames · {(frames / fps).toFixed(2)} s ·{" "}
        {Math.round(footage.width * (half ? 0.5 : 1))} × {Math.round(footage.height * (half ? 0.5 : 1))}
      </p>
      <div className="mb-5 grid grid-cols-[90px_1fr] items-center gap-x-3 gap-y-2.5">
        <span>Quality</span>
        <Choice
          label="Quality"
          value={shot.delivery.quality}
          names={{ small: "Small file", good: "Good", best: "Best" }}
          onChange={(v) => set("quality", v)}
        />
        <span>Size</span>
        <Choice
          label="Size"
          value={shot.delivery.scale}
          names={{ full: "Full size", half: "Half size" }}
          onChange={(v) => set("scale", v)}
        />
        <span>Sound</span>
        <OnOff label="Sound" checked={shot.delivery.sound} onChange={(on) => set("sound", on)} />
        {shot.delivery.sound && !shot.sound.muted && (
          <>
            <span>Loudness</span>
            <Choice
              label="Loudness"
              value={shot.sound.level}
              names={levels}
              onChange={(v) =>
                void edits.edit("Loudness of the sound", [{ op: "replace", path: "/sound/level", value: v }])
              }
            />
          </>
        )}
      </div>
      {footage.ground === "clear" && (
        <p className="-mt-2 mb-4 text-xs text-ink-2">
          One sees through where nothing is: a MOV file (ProRes 4444) with coverage, whatever the quality. It
          is large; browsers do not play it, cutting programs do.
        </p>
      )}
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
          {job.state === "done" && delivery && (
            <div className="flex items-center justify-between">
              <b>Finished.</b>
              <a
                className="rounded-[7px] bg-tide px-3 py-1.5 font-semibold text-on-tide"
                href={`/api/deliveries/${delivery}/file?download`}
                download
              >
                Download the video
              </a>
            </div>
          )}
          {(job.state === "failed" || job.state === "stopped") && (
            <div className="flex items-center justify-between gap-3 text-brick">
              {job.message} Finished frames are kept.
              <Button onClick={() => void retryJob(job.id)}>Go on</Button>
            </div>
          )}
        </div>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={() => act({ do: "open", what: "deliver", on: false })}>Close</Button>
        <Button look="primary" disabled={Boolean(working)} onClick={() => void start()}>
          {job?.state === "done" ? "Deliver again" : "Deliver"}
        </Button>
      </div>
      <p className="mt-3 text-xs text-ink-2">
        Closing this or the browser does not stop it; finished videos are under Deliveries.
      </p>
    </Dialog>
  );
}
