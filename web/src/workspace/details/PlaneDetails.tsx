import { X } from "lucide-react";
import { type PlaneMotion, api } from "~/api/client";
import { useKinds, useMeasurement } from "~/api/queries";
import { pickText } from "~/workspace/actions/files";
import { quadOf } from "~/workspace/actions/outlines";
import { useOpenShot } from "~/workspace/context";
import { Group, Title } from "~/workspace/details/Group";
import { MeasureRow, MotionFoot, UsedBy } from "~/workspace/details/MotionParts";
import { IgnoredMattes, MatteRow, RegionList, type SetRegions } from "~/workspace/details/RegionList";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { apply, invert } from "~/workspace/geometry";
import { outlineAt } from "~/workspace/outline";
import { round, setOnMotion } from "~/workspace/patches";
import { useSpaces } from "~/workspace/spaces";
import { act, outlining, useWorkspace } from "~/workspace/store";

export function PlaneDetails({ motion }: { motion: PlaneMotion }) {
  const { record, edits, shotId } = useOpenShot();
  const { data: kinds } = useKinds("motion");
  const { data: measured } = useMeasurement(motion.measurement);
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const shot = record.document;
  const footage = shot.footage!;
  const schema = kinds?.find((k) => k.kind === "plane")?.schema;
  const set: Set = (label, values) =>
    void edits.edit(label, (latest) => {
      const now = latest.motions.find((m) => m.id === motion.id);
      if (now?.kind !== "plane") return [];
      return setOnMotion(latest, motion.id, typeof values === "function" ? values(now) : values);
    });
  const setRegions: SetRegions = (label, change) => set(label, (now) => ({ regions: change(now.regions) }));
  const error = measured?.plane?.error_px[frame];

  const wholeFrame = () => {
    const back = invert(spaces.plane(motion, frame));
    const [w, h] = [footage.width, footage.height];
    const quad = [
      [0, 0],
      [w, 0],
      [w, h],
      [0, h],
    ].map(([x, y]) => {
      const p = apply(back, { x: x!, y: y! });
      return [round(p.x), round(p.y)];
    });
    set(`Spread ${motion.name} over frame ${frame}`, { quad });
  };
  const fitRegion = () => {
    const first = motion.regions.find((r) => r.use);
    if (first)
      set(`Fit the quad of ${motion.name}`, {
        quad: quadOf(outlineAt(first.outline, motion.reference_frame)),
      });
  };

  return (
    <>
      <Title
        title={motion.name}
        sub={
          <>
            Plane motion, drawn on frame{" "}
            <button
              className="num text-tide underline"
              onClick={() => act({ do: "frame", frame: motion.reference_frame })}
            >
              {motion.reference_frame}
            </button>
            {error !== undefined && measured?.plane?.state[frame] === 1 && (
              <> · within {error.toFixed(2)} px here</>
            )}
          </>
        }
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready={motion.regions.some((r) => r.use)} />
      <Group
        title="Regions"
        side={
          <span className="flex gap-2">
            <button
              className="font-semibold text-tide"
              onClick={() => act({ do: "tool", tool: outlining({ use: true }) })}
            >
              Add
            </button>
            <button
              className="font-semibold text-plum"
              onClick={() => act({ do: "tool", tool: outlining({ use: false }) })}
            >
              Ignore
            </button>
          </span>
        }
      >
        <RegionList motion={motion} setRegions={setRegions} />
        <MatteRow
          value={motion.ignore_matte ?? null}
          onChange={(label, ignore_matte) => set(label, { ignore_matte })}
        />
        <IgnoredMattes motion={motion} />
        <button
          className="mt-1 text-xs text-tide underline"
          onClick={() =>
            pickText(
              ".svg,image/svg+xml",
              (_name, text) =>
                void edits.ask(() =>
                  api.POST("/api/shots/{shot_id}/motions/{motion_id}/regions", {
                    params: { path: { shot_id: shotId, motion_id: motion.id } },
                    body: { text },
                  }),
                ),
            )
          }
        >
          Regions from an SVG file …
        </button>
      </Group>
      <Group title="Quad">
        <p className="mb-1 text-xs text-ink-2">
          Drag its corners onto the thing to be replaced. It need not be the region.
        </p>
        <div className="flex gap-3 text-xs">
          <button className="font-semibold text-tide" onClick={wholeFrame}>
            Spread over this frame
          </button>
          <button className="font-semibold text-tide" onClick={fitRegion}>
            Fit to the region
          </button>
        </div>
        {schema && (
          <SchemaForm
            schema={schema}
            groups={["Shown"]}
            bare
            values={motion as unknown as Record<string, unknown>}
            onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
          />
        )}
      </Group>
      <StakeList motion={motion} set={set} />
      {schema && (
        <SchemaForm
          schema={schema}
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

type Values = Partial<PlaneMotion> | Record<string, unknown>;
/** Change the motion as it stands when the edit's turn comes: one made meanwhile is kept. */
type Set = (label: string, values: Values | ((now: PlaneMotion) => Values)) => void;
function StakeList({ motion, set }: { motion: PlaneMotion; set: Set }) {
  const names = ["top left", "top right", "bottom right", "bottom left"];
  return (
    <Group title="Stakes">
      <ul>
        <li className="flex items-center gap-2 py-0.5 text-xs">
          <i aria-hidden className="h-3.5 w-2 rounded-sm bg-saffron-bar" />
          <button
            className="flex-1 text-left hover:underline"
            onClick={() => act({ do: "frame", frame: motion.reference_frame })}
          >
            Frame <span className="num">{motion.reference_frame}</span>
            <span className="text-ink-3"> · reference</span>
          </button>
        </li>
        {motion.stakes.map((s) => {
          const moved = names.filter((_, k) => s.corners[k] != null);
          return (
            <li key={s.frame} className="flex items-center gap-2 py-0.5 text-xs">
              <i aria-hidden className="h-3.5 w-2 rounded-sm bg-saffron-bar" />
              <button
                className="min-w-0 flex-1 truncate text-left hover:underline"
                onClick={() => act({ do: "frame", frame: s.frame })}
              >
                Frame <span className="num">{s.frame}</span>
                <span className="text-ink-3"> · {moved.length === 4 ? "all corners" : moved.join(", ")}</span>
              </button>
              <button
                aria-label={`Remove the stake at ${s.frame}`}
                className="text-ink-3 hover:text-brick"
                onClick={() =>
                  set(`Remove the stake at ${s.frame}`, (now) => ({
                    stakes: now.stakes.filter((o) => o.frame !== s.frame),
                  }))
                }
              >
                <X className="size-3.5" />
              </button>
            </li>
          );
        })}
      </ul>
      {!motion.stakes.length && motion.measurement && (
        <p className="text-xs text-ink-2">
          Where a corner is off, drag it: it is staked there, and the correction spreads over time.
        </p>
      )}
    </Group>
  );
}
