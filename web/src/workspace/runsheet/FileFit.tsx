import { useState } from "react";
import type { FileFacts, Timing } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { Dialog } from "~/ui/Dialog";
import { NumberBox } from "~/ui/NumberBox";

const MOST_POINTS = 20_000;

/** How many frames a second, as people say it. */
export const perSecond = (rate: number) => String(Number(rate.toFixed(3)));

/** How the path of a camera's file is laid over the clip, where it does not lie on it as it is. */
export function FileFit({
  name,
  facts,
  onDone,
}: {
  name: string;
  facts: FileFacts;
  /** With nothing where the creator thought better of it. */
  onDone: (timing: Timing | null) => void;
}) {
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const [over = 25, under = 1] = (footage?.rate ?? "25/1").split("/").map(Number);
  const clipRate = over / under;
  const told = facts.timing ?? { first: facts.first, step: 1, points: facts.points };
  const [first, setFirst] = useState(told.first);
  const [points, setPoints] = useState(Math.min(told.points, facts.points));
  const [rate, setRate] = useState(facts.rate ?? clipRate);
  const otherRate = Math.abs(rate / clipRate - 1) > 0.002;
  const [by, setBy] = useState<"time" | "frame">("time");
  const step = by === "time" ? rate / clipRate : 1;
  const frames = footage?.frames ?? 1;
  const reached = Math.max(0, Math.min(frames, Math.floor((facts.last - first) / step + 1e-6) + 1));
  return (
    <Dialog open onOpenChange={() => onDone(null)} title={`How ${name} lies on the clip`}>
      <p className="mb-3 text-ink-2">
        Its camera goes from frame {Math.round(facts.first)} to {Math.round(facts.last)}
        {facts.rate === null ? ", at a rate that it does not say" : `, ${perSecond(facts.rate)} a second`}
        {facts.points > 0 && `, with ${facts.points.toLocaleString("en")} points`}. The clip has {frames}{" "}
        frames, {perSecond(clipRate)} a second.
      </p>
      <div className="grid grid-cols-[1fr_120px] items-center gap-x-4 gap-y-2">
        <span>Its frame on the clip's first</span>
        <NumberBox
          label="First frame"
          value={first}
          low={-1e6}
          high={1e6}
          step={1}
          unit=""
          onCommit={setFirst}
        />
        <span>Its frames a second</span>
        <NumberBox label="Rate" value={rate} low={1} high={1000} step={0.001} unit="" onCommit={setRate} />
        {facts.points > 0 && (
          <>
            <span>Points taken, evenly among all</span>
            <NumberBox
              label="Points"
              value={points}
              low={0}
              high={Math.min(MOST_POINTS, facts.points)}
              step={100}
              unit=""
              onCommit={setPoints}
            />
          </>
        )}
      </div>
      {otherRate && (
        <div className="mt-3">
          <Choice
            label="Laid"
            value={by}
            names={{ time: "By time: a second is a second", frame: "Frame by frame" }}
            onChange={(laid) => setBy(laid === "time" ? "time" : "frame")}
          />
        </div>
      )}
      <p className="mt-3 text-ink-2" role="status">
        {reached === frames
          ? "It tells the camera on every frame of the clip."
          : reached > 0
            ? `It tells the camera on ${reached} of ${frames} frames.`
            : "It would not reach the clip at all."}
      </p>
      <div className="mt-5 flex justify-end gap-2">
        <Button onClick={() => onDone(null)}>Cancel</Button>
        <Button look="primary" disabled={reached === 0} onClick={() => onDone({ first, step, points })}>
          Bring it in
        </Button>
      </div>
    </Dialog>
  );
}
