import { useState } from "react";
import { useLocation } from "wouter";
import { ApiError, answered, api } from "~/api/client";
import { Button } from "~/ui/Button";
import { complain } from "~/ui/Notices";
import { NumberBox } from "~/ui/NumberBox";
import { useTimeChange } from "~/workspace/actions/time";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { kindOf } from "~/workspace/kinds";
import { act, useWorkspace } from "~/workspace/store";
import { lengthOf, momentOf, speedAt } from "~/workspace/time";
import { speedText } from "~/workspace/timestrip/SpeedLane";
import { fpsOf } from "~/workspace/viewer/rates";

/** How the footage runs: over which frames, how fast; held, ramped, cut out; further ranges of the clip. */
export function SpeedGroup() {
  const { record, edits, shotId } = useOpenShot();
  const footage = record.document.footage!;
  const change = useTimeChange();
  const [, open] = useLocation();
  const frame = useWorkspace((s) => s.frame);
  const stretch = useWorkspace((s) => s.stretch);
  const [held, setHeld] = useState(Math.round(fpsOf(footage)));
  const kind = kindOf("footage", "time");
  const last = lengthOf(footage) - 1;
  const over = stretch ?? { first: footage.in_frame, last: footage.out_frame };
  const set = (to: { first: number; last: number }) => act({ do: "stretch", stretch: to });
  const now = speedAt(footage, frame);
  const moment = momentOf(footage, frame);
  const split = () =>
    void answered(
      api.POST("/api/shots/{shot_id}/split", { params: { path: { shot_id: shotId } }, body: { frame } }),
    )
      .then((made) => open(`/shots/${made.id}`))
      .catch((error: unknown) => complain(error instanceof ApiError ? error.message : String(error)));
  const frameBox = (label: string, value: number, low: number, high: number, to: (v: number) => void) => (
    <Row label={label} wide>
      <NumberBox
        label={label}
        value={value}
        low={low}
        high={high}
        step={1}
        unit="fr"
        onCommit={(v) => to(Math.round(v))}
      />
    </Row>
  );
  return (
    <Group title="Speed">
      <p className="mb-1 text-xs text-ink-2">
        Here: <span className="num text-ink">{speedText({ from: now, to: now })}</span>
        {footage.time && (
          <>
            , the clip&rsquo;s frame <span className="num text-ink">{Math.round(moment * 100) / 100}</span>
          </>
        )}
        . Drag the ends of the stretches in the time strip, or:
      </p>
      {frameBox("From frame", over.first, 0, over.last, (first) => set({ ...over, first }))}
      {frameBox("To frame", over.last, over.first, last, (to) => set({ ...over, last: to }))}
      <Row label="Runs at" help="Of the speed that it has there now; below nought it runs backwards" wide>
        <NumberBox
          label="Runs at"
          value={100}
          low={-10000}
          high={10000}
          step={5}
          unit="%"
          onCommit={(percent) => percent !== 100 && void change({ do: "speed", ...over, percent })}
        />
      </Row>
      <span className="mt-1 flex flex-wrap gap-1.5">
        <Button
          title="These frames from the last to the first"
          onClick={() => void change({ do: "speed", ...over, percent: -100 })}
        >
          Backwards
        </Button>
        <Button
          title="Over these frames the speed goes evenly from what it is before them to what it is after them"
          onClick={() => void change({ do: "ramp", ...over })}
        >
          Ramp
        </Button>
        <Button
          title="These frames are not shown any more"
          onClick={() => void change({ do: "cut out", ...over })}
        >
          Cut out
        </Button>
        <Button
          title="These frames of the clip once more, after the last"
          onClick={() =>
            void change({
              do: "add range",
              first: Math.round(momentOf(footage, over.first)),
              last: Math.round(momentOf(footage, over.last)),
            })
          }
        >
          Once more at the end
        </Button>
      </span>
      <Row label="Hold for" help="The frame at the playhead stands still for so many frames more" wide>
        <span className="grid grid-cols-[1fr_auto] gap-1.5">
          <NumberBox
            label="Hold for"
            value={held}
            low={1}
            high={100000}
            step={1}
            unit="fr"
            onCommit={(v) => setHeld(Math.round(v))}
          />
          <Button onClick={() => void change({ do: "hold", frame, frames: held })}>Hold frame {frame}</Button>
        </span>
      </Row>
      {footage.time && kind && (
        <SchemaForm
          schema={kind.schema}
          groups={["Between frames"]}
          bare
          values={footage.time as unknown as Record<string, unknown>}
          onChange={(field, value, label) =>
            void edits.edit(`${label} of the footage`, [
              { op: "replace", path: `/footage/time/${field}`, value },
            ])
          }
        />
      )}
      <span className="mt-1.5 flex flex-wrap gap-1.5">
        {footage.time && <Button onClick={() => void change({ do: "as filmed" })}>As it was filmed</Button>}
        <Button title="This shot ends before the playhead; another one goes on from here" onClick={split}>
          Split the shot here
        </Button>
      </span>
    </Group>
  );
}
