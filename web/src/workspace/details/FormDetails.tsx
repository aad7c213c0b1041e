import { useShallow } from "zustand/react/shallow";
import { useQuery } from "@tanstack/react-query";
import type { FormMotion, ObjectMotion, RoomMotion } from "~/api/client";
import { useAssets, useKinds, useMeasurement } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { OnOff } from "~/ui/OnOff";
import { fitOf, useTug } from "~/workspace/actions/forms";
import { useOpenShot } from "~/workspace/context";
import { RoomGroup } from "~/workspace/details/CameraDetails";
import { Group, Row, Title } from "~/workspace/details/Group";
import { MeasureRow, MotionFoot, UsedBy } from "~/workspace/details/MotionParts";
import { NotLookedAt } from "~/workspace/details/RegionList";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { setOnMotion } from "~/workspace/patches";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

const SHAPES = { box: "Box", cylinder: "Cylinder", plane: "Plane", model: "Model from the shelf" };

/** A form: what it is, its tugs, and how it is looked for. */
export function FormDetails({ motion }: { motion: FormMotion }) {
  const { record, shotId, edits } = useOpenShot();
  const { frame, tool } = useWorkspace(useShallow((w) => ({ frame: w.frame, tool: w.tool.kind })));
  const { data: assets } = useAssets();
  const tug = useTug();
  const set = (label: string, values: Record<string, unknown>) =>
    edits.edit(label, (latest) => setOnMotion(latest, motion.id, values));
  const stake = motion.stakes.find((s) => s.frame === frame);
  const staked = motion.stakes.filter((s) => s.tugs.length > 0);
  const models = (assets ?? []).filter((a) => a.kind === "model");
  const { data: fit } = useQuery({
    queryKey: ["fit", shotId, record.number, motion.id, frame],
    queryFn: () => fitOf(shotId, motion.id, frame, stake?.tugs ?? []),
    enabled: (stake?.tugs.length ?? 0) > 0,
  });
  // A new height or lens changes how far off it is: what is tugged is fitted again.
  const setAndFit = (field: string, value: unknown, label: string) =>
    void set(`${label} of ${motion.name}`, { [field]: value }).then((done) => {
      const first = staked[0];
      const fits = [
        "tall",
        "wide",
        "deep",
        "fits",
        "knows",
        "equivalent_mm",
        "sensor_mm",
        "focal_mm",
        "focal_px",
      ];
      if (done && first && fits.includes(field)) return tug(motion.id, first.frame, first.tugs);
      return undefined;
    });
  const choose = (shape: string) => {
    const asset = shape === "model" ? (models[0]?.digest ?? null) : null;
    if (shape === "model" && !asset) return;
    void set(`${motion.name} is a ${shape}`, { shape, asset });
  };
  return (
    <>
      <Title
        title={motion.name}
        sub="Form: put in place by tugs, followed by its surface"
        onRename={(name) => void set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready={staked.length > 0} />
      {!staked.length && (
        <p className="mb-2 text-xs text-ink-2">
          Drag its corners in the picture to where they are seen: four or more put it in perspective. Then
          measure; where it slips, go there, drag it right, and measure again.
        </p>
      )}
      <Group
        title="Tugs"
        side={
          <button
            className="font-semibold text-saffron"
            aria-pressed={tool === "tug"}
            title="Click anywhere on the form to put a tug there"
            onClick={() => act({ do: "tool", tool: tool === "tug" ? HANDLE : { kind: "tug" } })}
          >
            Drop one
          </button>
        }
      >
        <p className="mb-1 text-xs text-ink-2" data-testid="tugs-here">
          {stake?.tugs.length ? (
            <>
              <span className="num">{stake.tugs.length}</span> on this frame
              {fit && (
                <>
                  , off by <span className="num">{fit.off_px.toFixed(2)}</span> px
                </>
              )}
              .{" "}
              <button className="font-semibold text-tide" onClick={() => void tug(motion.id, frame, [])}>
                Take them away
              </button>
            </>
          ) : (
            "None on this frame."
          )}
        </p>
        {staked.length > 0 && (
          <p className="flex flex-wrap gap-1 text-xs text-ink-2">
            Stakes:
            {staked.map((s) => (
              <button
                key={s.frame}
                className="num font-semibold text-saffron hover:underline"
                onClick={() => act({ do: "frame", frame: s.frame })}
              >
                {s.frame}
              </button>
            ))}
          </p>
        )}
      </Group>
      <Group title="What it is">
        <Row label="Shape" wide>
          <Choice
            label="Shape"
            value={motion.shape}
            names={models.length ? SHAPES : { box: "Box", cylinder: "Cylinder", plane: "Plane" }}
            onChange={choose}
          />
        </Row>
        {motion.shape === "model" && (
          <Row label="Model" wide>
            <Choice
              label="Model of the form"
              value={motion.asset ?? ""}
              names={Object.fromEntries(models.map((a) => [a.digest, a.name]))}
              onChange={(asset) => void set("Another model", { asset })}
            />
          </Row>
        )}
        <MotionForm motion={motion} groups={["Form"]} leaveOut={["shape"]} bare onChange={setAndFit} />
      </Group>
      <MotionForm motion={motion} groups={["Movement", "How it looks for it"]} onChange={setAndFit} />
      <NotLookedAt motion={motion} />
      <MotionForm motion={motion} groups={["Lens"]} onChange={setAndFit} />
      {motion.knows === "unknown" && (
        <p className="mb-2 text-xs text-ink-2">
          {fit && staked.some((s) => s.tugs.length >= 6) ? (
            <>
              Lens told by the tugs: <span className="num">{Math.round(fit.focal_px)}</span> px.
            </>
          ) : (
            "Six tugs on more than one side of it tell the lens; until then a phone's usual one is taken."
          )}
        </p>
      )}
      <UsedBy motion={motion} />
      <MotionFoot motion={motion} />
    </>
  );
}

/** A rigid thing solved from points on it. */
export function ObjectDetails({ motion }: { motion: ObjectMotion }) {
  const { record, edits } = useOpenShot();
  const { data: measured } = useMeasurement(motion.measurement);
  const solve = motion.measurement ? measured?.camera : undefined;
  const points = record.document.motions.filter((m) => m.kind === "points");
  const set = (label: string, values: Record<string, unknown>) =>
    void edits.edit(label, (latest) => setOnMotion(latest, motion.id, values));
  const count = points.filter((p) => motion.points.includes(p.id)).reduce((n, p) => n + p.points.length, 0);
  return (
    <>
      <Title
        title={motion.name}
        sub={
          solve ? (
            <>
              Object in 3D · off by <span className="num">{solve.mean_error_px.toFixed(2)}</span> px · lens{" "}
              <span className="num">{solve.equivalent_mm.toFixed(1)}</span> mm
            </>
          ) : (
            "A rigid thing, solved from points on it"
          )
        }
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready={count >= 8} />
      {count < 8 && (
        <p className="mb-2 text-xs text-ink-2">
          It counts on <span className="num">{count}</span> points. Eight or more, not all on one side of it,
          tell how it turns.
        </p>
      )}
      {solve?.warnings.map((warning) => (
        <p
          key={warning}
          role="note"
          className="mb-2 rounded-md border border-brick/40 bg-brick-2 px-2 py-1.5 text-xs leading-snug"
        >
          {warning}
        </p>
      ))}
      <Group title="Its points">
        {points.map((p) => (
          <Row key={p.id} label={p.name}>
            <OnOff
              label={`${p.name} is on it`}
              checked={motion.points.includes(p.id)}
              onChange={(on) =>
                set(on ? `${p.name} is on ${motion.name}` : `${p.name} is not on ${motion.name}`, {
                  points: on ? [...motion.points, p.id] : motion.points.filter((id) => id !== p.id),
                })
              }
            />
          </Row>
        ))}
        {!points.length && <p className="text-xs text-ink-2">Follow details on it first.</p>}
      </Group>
      {solve && <RoomGroup motion={motion} solve={solve} />}
      <MotionForm
        motion={motion}
        groups={["Movement"]}
        onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
      />
      <MotionForm
        motion={motion}
        groups={["Lens"]}
        onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
      />
      <UsedBy motion={motion} />
      <MotionFoot motion={motion} />
      {motion.points.length > 0 && (
        <Button
          className="mt-2"
          onClick={() =>
            act({ do: "choose", chosen: { kind: "motion", id: motion.points[0]!, point: null } })
          }
        >
          See its points
        </Button>
      )}
    </>
  );
}

function MotionForm({
  motion,
  ...more
}: { motion: RoomMotion } & Omit<React.ComponentProps<typeof SchemaForm>, "schema" | "values">) {
  const { data: kinds } = useKinds("motion");
  const schema = kinds?.find((k) => k.kind === motion.kind)?.schema;
  if (!schema) return null;
  return <SchemaForm schema={schema} values={motion as unknown as Record<string, unknown>} {...more} />;
}
