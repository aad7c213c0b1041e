import { useShallow } from "zustand/react/shallow";
import type { CameraMotion, CameraSolve } from "~/api/client";
import { useKinds, useMeasurement } from "~/api/queries";
import { NumberBox } from "~/ui/NumberBox";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Row } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { act, useWorkspace } from "~/workspace/store";

/** Everything that puts a camera right by hand, as it is when nothing is set. */
const AS_SOLVED = { aside: 0, up: 0, ahead: 0, pan: 0, tilt: 0, roll: 0, zoom_by: 0, smoothed: 0 };

/** A solved camera put right by hand: keyed steps, turns and zoom over the untouched solve, and what that costs. */
export function ByHand({
  motion,
  solve,
  set,
}: {
  motion: CameraMotion;
  solve: CameraSolve;
  set: (label: string, values: Record<string, unknown>) => void;
}) {
  const { data: kinds } = useKinds("motion");
  const { record } = useOpenShot();
  const { data: untouched } = useMeasurement(motion.solved);
  const { frame, room, picked, pullOver } = useWorkspace(
    useShallow((w) => ({ frame: w.frame, room: w.room, picked: w.picked, pullOver: w.pullOver })),
  );
  const schema = kinds?.find((k) => k.kind === "camera")?.schema;
  const retimed = record.document.footage?.time != null;
  if (!schema || solve.kind !== "full") return null;
  const before = motion.solved ? untouched?.camera : undefined;
  return (
    <details className="border-t border-line py-2" open={motion.solved !== null}>
      <summary className="cursor-pointer text-xs font-bold">Put right by hand</summary>
      {retimed ? (
        <p className="mt-1.5 text-xs text-ink-2">
          Its keys lie on the clip’s own frames: look at the footage as filmed (clear its speed) to change
          them.
        </p>
      ) : (
        <>
          <p className="mt-1.5 text-xs text-ink-2">
            A key on a frame puts that one right, two of them spread a drift between. <b>X</b> shows the path
            and the keys as curves. The solve itself stays as it is.
          </p>
          <Row
            label="Pull details"
            help="Where the camera puts picked details can be pulled to where they belong"
          >
            <OnOff
              label="Pull details"
              checked={room.pull}
              onChange={(pull) => act({ do: "room", show: { pull } })}
            />
          </Row>
          {room.pull && (
            <>
              <p className="text-xs text-ink-2">
                {picked.length
                  ? "Pull the cross to where the detail belongs in this frame. With several picked, the camera rolls too."
                  : "Pick a detail on the picture: a cross shows where the camera puts it."}
              </p>
              <Row
                label="Fades over"
                help="Frames before and after it over which what is pulled right comes and goes"
              >
                <span />
                <NumberBox
                  label="Fades over value"
                  value={pullOver}
                  low={0}
                  high={1000}
                  step={1}
                  unit="fr"
                  nought="this frame"
                  onCommit={(frames) => act({ do: "pull-over", frames })}
                />
              </Row>
            </>
          )}
          {before && (
            <p className="mt-1 text-xs" data-testid="cost">
              Details are off by <span className="num">{solve.mean_error_px.toFixed(2)}</span> px on the mean;
              as solved by <span className="num">{before.mean_error_px.toFixed(2)}</span>. Here{" "}
              <span className="num">{(solve.error_px[frame] ?? 0).toFixed(2)}</span> and{" "}
              <span className="num">{(before.error_px[frame] ?? 0).toFixed(2)}</span>.{" "}
              <button
                className="font-semibold text-tide"
                onClick={() => set(`${motion.name} as solved`, AS_SOLVED)}
              >
                As solved again
              </button>
            </p>
          )}
          <SchemaForm
            schema={schema}
            groups={["By hand"]}
            values={motion as unknown as Record<string, unknown>}
            onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
          />
        </>
      )}
    </details>
  );
}
