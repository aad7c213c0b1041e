import { useShallow } from "zustand/react/shallow";
import { X } from "lucide-react";
import type { PointMotion } from "~/api/client";
import { useKinds } from "~/api/queries";
import { mattesOf } from "~/workspace/actions/mattes";
import { useGivePoint } from "~/workspace/actions/points";
import { useOpenShot } from "~/workspace/context";
import { Group, Title } from "~/workspace/details/Group";
import { MeasureRow, MotionFoot, UsedBy } from "~/workspace/details/MotionParts";
import { IgnoredMattes } from "~/workspace/details/RegionList";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { setOnMotion } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { handleSpot, LOST, useTracks } from "~/workspace/tracks";

export function PointDetails({ motion }: { motion: PointMotion }) {
  const { record, edits } = useOpenShot();
  const { data: kinds } = useKinds("motion");
  const { chosen, frame } = useWorkspace(useShallow((w) => ({ chosen: w.chosen, frame: w.frame })));
  const give = useGivePoint();
  const tracks = useTracks(motion);
  const shot = record.document;
  const kind = kinds?.find((k) => k.kind === motion.kind);
  const pointSchema = kind?.schema.$defs?.["TrackPoint"];
  const index = shot.motions.findIndex((m) => m.id === motion.id);
  const pointId = chosen.kind === "motion" ? chosen.point : null;
  const point = motion.points.find((p) => p.id === pointId) ?? motion.points[0];
  const set = (label: string, values: Partial<PointMotion>) =>
    void edits.edit(label, setOnMotion(shot, motion.id, values));
  const pointPath = (id: string) => `/motions/${index}/points/${motion.points.findIndex((p) => p.id === id)}`;

  return (
    <>
      <Title
        title={motion.name}
        sub={
          motion.points.length > 1
            ? "Point motion: shift, turn and size"
            : "Point motion: shift (two points give turn and size)"
        }
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready={motion.points.length > 0} />
      <Group
        title="Points"
        side={
          <button
            className="font-semibold text-tide"
            onClick={() => act({ do: "tool", tool: { kind: "add-point" } })}
          >
            Add a point
          </button>
        }
      >
        <ul>
          {motion.points.map((p) => {
            const here = tracks.at(p.id, frame);
            const state = !here
              ? "not measured"
              : here.state === LOST
                ? "lost"
                : here.state === 3
                  ? "by hand"
                  : `${Math.round(here.confidence * 100)} %`;
            return (
              <li key={p.id} className="flex items-center gap-2">
                <button
                  aria-pressed={p.id === point?.id}
                  className="flex min-w-0 flex-1 items-center gap-2 rounded-md px-1 py-1 text-left text-xs aria-pressed:bg-tide-2"
                  onClick={() =>
                    act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: p.id } })
                  }
                >
                  <i aria-hidden className="size-3 shrink-0 rounded-full border-2 border-tide" />
                  <span className="min-w-0 flex-1 truncate">{p.name}</span>
                  <span className={`num ${here?.state === LOST ? "font-semibold text-brick" : "text-ink-2"}`}>
                    {state}
                  </span>
                </button>
                <button
                  aria-label={`Remove ${p.name}`}
                  className="text-ink-3 hover:text-brick"
                  onClick={() =>
                    void edits.edit(`Remove ${p.name}`, [
                      { op: "test", path: `${pointPath(p.id)}/id`, value: p.id },
                      { op: "remove", path: pointPath(p.id) },
                    ])
                  }
                >
                  <X className="size-3.5" />
                </button>
              </li>
            );
          })}
        </ul>
        {!motion.points.length && (
          <p className="text-xs text-ink-2">Click on a small, clear detail in the picture.</p>
        )}
      </Group>
      {point && (
        <>
          {pointSchema && (
            <SchemaForm
              schema={pointSchema}
              groups={["Point"]}
              values={point as unknown as Record<string, unknown>}
              onChange={(field, value, label) =>
                void edits.edit(`${label} of ${point.name}`, [
                  { op: "test", path: `${pointPath(point.id)}/id`, value: point.id },
                  { op: "replace", path: `${pointPath(point.id)}/${field}`, value },
                ])
              }
            />
          )}
          <Group
            title={`Stakes of ${point.name}`}
            side={
              <button
                className="font-semibold text-saffron"
                onClick={() => void give(motion, point.id, handleSpot(tracks, motion, point.id, frame))}
              >
                Stake at {frame}
              </button>
            }
          >
            <ul>
              {point.given.map((g, k) => (
                <li key={g.frame} className="flex items-center gap-2 py-0.5 text-xs">
                  <i aria-hidden className="h-3.5 w-2 rounded-sm bg-saffron-bar" />
                  <button
                    className="flex-1 text-left hover:underline"
                    onClick={() => act({ do: "frame", frame: g.frame })}
                  >
                    Frame <span className="num">{g.frame}</span>
                    {k === 0 && <span className="text-ink-3"> · reference</span>}
                  </button>
                  <span className="num text-ink-2">
                    {g.x.toFixed(1)}, {g.y.toFixed(1)}
                  </span>
                  <button
                    aria-label={`Remove the stake at ${g.frame}`}
                    disabled={point.given.length === 1}
                    className="text-ink-3 hover:text-brick disabled:opacity-25"
                    onClick={() =>
                      void edits.edit(`Remove the stake at ${g.frame}`, [
                        { op: "test", path: `${pointPath(point.id)}/id`, value: point.id },
                        { op: "remove", path: `${pointPath(point.id)}/given/${k}` },
                      ])
                    }
                  >
                    <X className="size-3.5" />
                  </button>
                </li>
              ))}
            </ul>
          </Group>
        </>
      )}
      {mattesOf(shot).length > 0 && (
        <Group title="Not looked at">
          <IgnoredMattes motion={motion} />
        </Group>
      )}
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={["How it looks for it", "Path"]}
          values={motion as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
        />
      )}
      <UsedBy motion={motion} />
      <MotionFoot motion={motion} />
    </>
  );
}
