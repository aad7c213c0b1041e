import { Film } from "lucide-react";
import { useRef, useState } from "react";
import { boxedIfWanted, dropped, FOOTAGE, isPicture } from "~/api/sequence";
import { sendFile, useUploads } from "~/api/upload";
import { mention } from "~/ui/Notices";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { Progress } from "~/ui/Progress";
import { retryJob, stopJob } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { FootageDialog } from "~/workspace/FootageDialog";

/** The viewer before there is footage: drop a clip here. */
export function EmptyWell() {
  const { shotId } = useOpenShot();
  const input = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  const [dialog, setDialog] = useState<"shelf" | "empty" | null>(null);
  const uploads = useUploads((s) => s.list);
  const jobs = useLive((s) => s.jobs);
  const conforming = Object.values(jobs).find(
    (j) => j.kind === "conform" && (j.shot === shotId || j.waiting.includes(shotId)) && j.state !== "done",
  );
  const sending = Object.values(uploads)[0];
  const [still, setStill] = useState<string | null>(null);
  const take = async (files: File[]) => {
    const pictures = files.filter(isPicture);
    const [first, ...others] = files.filter((f) => !isPicture(f));
    if (pictures.length > 1 && !first) {
      const one = await boxedIfWanted(pictures);
      return void (one && sendFile(one, { shot: shotId }));
    }
    if (pictures.length === 1 && !first) {
      // A still lasts as long as one likes.
      const taken = await sendFile(pictures[0]!, {});
      if (taken) setStill(taken.digest);
      return;
    }
    if (!first) return;
    await sendFile(first, { shot: shotId });
    for (const other of [...others, ...pictures]) await sendFile(other, {});
    if (others.length + pictures.length) mention("The others are on the shelf.");
  };

  return (
    <div
      className={`absolute inset-6 grid place-items-center rounded-2xl border-2 border-dashed ${over ? "border-glow bg-well-2" : "border-well-3"}`}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault();
        setOver(false);
        void dropped(e.dataTransfer).then(take);
      }}
    >
      <input
        ref={input}
        type="file"
        aria-label="Clip to bring in"
        accept={FOOTAGE}
        multiple
        className="sr-only"
        onChange={(e) => {
          void take([...(e.target.files ?? [])]);
          e.target.value = "";
        }}
      />
      <FootageDialog
        key={still}
        what={still ? "shelf" : dialog}
        still={still}
        onClose={() => {
          setDialog(null);
          setStill(null);
        }}
      />
      <div className="flex max-w-sm flex-col items-center gap-3 text-center text-on-well">
        <Film className="size-10 text-on-well-2" aria-hidden />
        {sending ? (
          <>
            <b>Bringing in {sending.name}</b>
            <span className="flex w-64 items-center gap-3">
              <Progress done={sending.sent} total={sending.size} label="Bringing in" />
              <span className="num">{Math.round((sending.sent / sending.size) * 100)} %</span>
            </span>
            <Button look="well" onClick={sending.stop}>
              Stop
            </Button>
          </>
        ) : conforming && (conforming.state === "failed" || conforming.state === "stopped") ? (
          <>
            <b>{conforming.message}</b>
            <span className="text-on-well-2">The shot is unchanged.</span>
            <span className="flex gap-2">
              <Button onClick={() => void retryJob(conforming.id)}>Try again</Button>
              <Button onClick={() => input.current?.click()}>Another clip</Button>
            </span>
          </>
        ) : conforming ? (
          <>
            <b>{conforming.label}</b>
            <span className="flex w-64 items-center gap-3">
              <Progress done={conforming.done} total={conforming.total} label="Preparing the clip" />
              <span className="num">
                {conforming.done} / {conforming.total}
              </span>
            </span>
            <span className="text-on-well-2">
              Frames are made upright and evenly timed. The original stays as it is.
            </span>
            <Button look="well" onClick={() => void stopJob(conforming.id)}>
              Stop
            </Button>
          </>
        ) : (
          <>
            <b className="text-base">Bring in a clip</b>
            <span className="text-on-well-2">
              Drop a video here, straight off the phone; numbered pictures, their folder or a ZIP of them; or
              a still. Sound, odd frame times and rotation are taken care of.
            </span>
            <Button look="primary" onClick={() => input.current?.click()}>
              Choose a clip
            </Button>
            <span className="flex items-center gap-2 text-on-well-2">
              or
              <Button look="well" onClick={() => setDialog("shelf")}>
                From the shelf …
              </Button>
              <Button look="well" onClick={() => setDialog("empty")}>
                An empty canvas …
              </Button>
            </span>
          </>
        )}
      </div>
    </div>
  );
}
