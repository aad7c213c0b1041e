import { useQuery } from "@tanstack/react-query";
import { Trash2 } from "lucide-react";
import type { Mend, Steady, Treatment } from "~/api/client";
import { useKinds, viewQuery } from "~/api/queries";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { OnOff } from "~/ui/OnOff";
import { useMeasure } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { Group, Row, Title } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { apply, IDENTITY } from "~/workspace/geometry";
import { outlineAt } from "~/workspace/outline";
import { removeTreatment, round, setOnPlate } from "~/workspace/patches";
import { riding, useSpaces } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";

/** The groups of settings that mean something as the others are set. */
const groupsOf = (t: Treatment): string[] =>
  t.kind === "handheld"
    ? ["Shake"]
    : t.kind === "mend"
      ? ["Mend", ...(t.method === "edges" ? ["From its edges"] : [])]
      : [
          "Steady",
          ...(t.mode === "smooth" ? ["Smooth"] : []),
          "Parts",
          ...(t.perspective ? [] : ["Only these parts"]),
          "Borders",
          "Frame it",
        ];
const SUBS = {
  steady: "The clip held on what you choose. Everything stacked on it goes along.",
  mend: "Taken out of the footage, in every frame. Drag its points; the small dots between add one.",
  handheld: "A natural shake, the same every time for the same seed.",
};

/** A treatment of the plate: what it holds on to, and how. */
export function PlateDetails({ treatment }: { treatment: Treatment }) {
  const { edits } = useOpenShot();
  const { data: kinds } = useKinds("treatment");
  const schema = kinds?.find((k) => k.kind === treatment.kind)?.schema;
  const set: Set = (label, values) =>
    void edits.edit(label, (latest) => setOnPlate(latest, treatment.id, values));
  return (
    <>
      <Title
        title={treatment.name}
        sub={SUBS[treatment.kind]}
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <Row label="On" wide>
        <span className="justify-self-start">
          <OnOff
            label={`${treatment.name} on`}
            checked={treatment.shown}
            onChange={(shown) => set(`${treatment.name} ${shown ? "on" : "off"}`, { shown })}
          />
        </span>
      </Row>
      {treatment.kind === "steady" && <HoldsOn steady={treatment} set={set} />}
      {treatment.kind === "mend" && <RidesOn mend={treatment} set={set} />}
      {treatment.shown && treatment.kind !== "mend" && <Path treatment={treatment} />}
      {schema && (
        <SchemaForm
          schema={schema}
          groups={groupsOf(treatment)}
          values={treatment as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${treatment.name}`, { [field]: value })}
        />
      )}
      <div className="flex gap-2 border-t border-line pt-3">
        {treatment.kind === "steady" && (
          <Button onClick={() => act({ do: "tool", tool: "middle" })}>Put a spot in the middle</Button>
        )}
        <span className="flex-1" />
        <Button
          aria-label={`Remove ${treatment.name}`}
          onClick={() => {
            void edits.edit(`Remove ${treatment.name}`, (latest) => removeTreatment(latest, treatment.id));
            act({ do: "choose", chosen: { kind: "none" } });
          }}
        >
          <Trash2 className="size-3.5" />
        </Button>
      </div>
    </>
  );
}

type Set = (label: string, values: Record<string, unknown>) => void;

/** What the outline of a mend rides on: the surface that the thing sits on, or the clip's own frame. */
function RidesOn({ mend, set }: { mend: Mend; set: Set }) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const motions = record.document.motions;
  const names: Record<string, string> = {
    none: "Nothing (the lens)",
    ...Object.fromEntries(motions.map((m) => [m.id, m.name])),
  };
  const ride = (target: string | null) => {
    // The outline stays where it is in this frame, and rides from here on.
    const now = mend.target ? spaces.of(riding(mend.target, mend.reference_frame), frame) : IDENTITY;
    const points = outlineAt(mend.outline, frame).map((p) => {
      const at = apply(now, p);
      const arm = (dx: number, dy: number) => {
        const end = apply(now, { x: p.x + dx, y: p.y + dy });
        return [round(end.x - at.x), round(end.y - at.y)] as const;
      };
      const [in_x, in_y] = arm(p.in_x, p.in_y);
      const [out_x, out_y] = arm(p.out_x, p.out_y);
      return { x: round(at.x), y: round(at.y), in_x, in_y, out_x, out_y };
    });
    set(`${mend.name} rides on ${names[target ?? "none"] ?? ""}`, {
      target,
      reference_frame: frame,
      outline: { keys: [{ frame, points }] },
    });
  };
  return (
    <Group title="Rides on">
      <Row label="Motion" wide>
        <Choice
          label="Motion it rides on"
          value={mend.target ?? "none"}
          names={names}
          onChange={(v) => ride(v === "none" ? null : v)}
        />
      </Row>
    </Group>
  );
}

/** The motions held on to: one, or a second at another depth. */
function HoldsOn({ steady, set }: { steady: Steady; set: Set }) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const motions = record.document.motions;
  const names = (without: string | undefined): Record<string, string> => ({
    none: "Nothing",
    ...Object.fromEntries(motions.filter((m) => m.id !== without).map((m) => [m.id, m.name])),
  });
  const [first, second] = steady.targets;
  const measure = useMeasure();
  const waiting = motions.find((m) => steady.targets.includes(m.id) && !m.measurement);
  const measuring = useLive((s) =>
    Object.values(s.jobs).some((j) => j.motion === waiting?.id && ["queued", "running"].includes(j.state)),
  );
  const choose = (k: number, id: string) => {
    const next = [first, second];
    next[k] = id === "none" ? undefined : id;
    const targets = next.filter((t) => t !== undefined);
    set(targets.length ? "Hold on to something else" : "Hold on to nothing", { targets });
  };
  return (
    <Group title="Holds on to">
      <Row label="Motion" wide>
        <Choice
          label="Motion held on to"
          value={first ?? "none"}
          names={names(second)}
          onChange={(v) => choose(0, v)}
        />
      </Row>
      {first && motions.length > 1 && (
        <Row
          label="And"
          help="A second surface, nearer or further: both hold as well as one picture can"
          wide
        >
          <Choice
            label="Second motion held on to"
            value={second ?? "none"}
            names={names(first)}
            onChange={(v) => choose(1, v)}
          />
        </Row>
      )}
      {waiting && (
        <p className="my-1 flex items-center justify-between gap-2 rounded-md bg-paper px-2 py-1 text-xs text-ink-2">
          {measuring ? `${waiting.name} is being measured …` : `${waiting.name} is not measured yet.`}
          {!measuring && (
            <button
              className="font-semibold text-tide"
              onClick={() => void measure(waiting.id, "both", null)}
            >
              Measure
            </button>
          )}
        </p>
      )}
      {!first && (
        <p className="my-1 text-xs text-ink-2">
          Choose what should stand still: a plane holds all of it, a point only its own spot.
        </p>
      )}
      <Row label="As in frame" wide>
        <span className="flex items-center gap-3 text-xs">
          <button
            className="num text-tide underline"
            onClick={() => act({ do: "frame", frame: steady.reference_frame })}
          >
            {steady.reference_frame}
          </button>
          {frame !== steady.reference_frame && (
            <button
              className="font-semibold text-tide"
              onClick={() => set(`Hold it as in frame ${frame}`, { reference_frame: frame })}
            >
              Take this frame
            </button>
          )}
        </span>
      </Row>
    </Group>
  );
}

/** The path before and after over time, and how much is zoomed. */
function Path({ treatment }: { treatment: Treatment }) {
  const { record, shotId } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const { data } = useQuery(viewQuery(shotId, record.number, record.document));
  const footage = record.document.footage!;
  const held =
    treatment.kind !== "steady" ||
    record.document.motions.some((m) => treatment.targets.includes(m.id) && m.measurement);
  if (!data?.matrices.length || !held) return null;
  const span = (rows: number[][]) => rows.slice(footage.in_frame, footage.out_frame + 1);
  const zoom = data.zoom.slice(footage.in_frame, footage.out_frame + 1);
  const [low, high] = [Math.min(...zoom), Math.max(...zoom)];
  const times = (z: number) => `${z.toFixed(2)}×`;
  return (
    <Group title="Path">
      {treatment.kind === "steady" && (
        <>
          {(["x", "y"] as const).map((axis, k) => (
            <PathLine
              key={axis}
              axis={axis}
              before={span(data.before).map((p) => p[k]!)}
              after={span(data.after).map((p) => p[k]!)}
              at={(frame - footage.in_frame) / Math.max(footage.out_frame - footage.in_frame, 1)}
            />
          ))}
          <p className="mb-1 flex gap-4 text-[11px] text-ink-2">
            <span>
              <i
                aria-hidden
                className="mr-1 inline-block w-4 border-t border-dashed border-ink-3 align-middle"
              />
              as filmed
            </span>
            <span>
              <i aria-hidden className="mr-1 inline-block w-4 border-t-2 border-tide align-middle" />
              steadied
            </span>
          </p>
        </>
      )}
      <p className="text-xs text-ink-2">
        {high > 1.0005 ? (
          <>
            Zoomed <span className="num">{times(high)}</span>
            {high - low > 0.004 && (
              <>
                , at least <span className="num">{times(low)}</span>
              </>
            )}{" "}
            to hide the borders.
          </>
        ) : (
          "Not zoomed."
        )}
      </p>
      {data.says && <p className="mt-1 rounded-md bg-brick-2 px-2 py-1 text-xs text-brick">{data.says}</p>}
    </Group>
  );
}

const WIDE = 240;
const TALL = 34;

function PathLine({
  axis,
  before,
  after,
  at,
}: {
  axis: string;
  before: number[];
  after: number[];
  at: number;
}) {
  const all = [...before, ...after];
  const [low, high] = [Math.min(...all), Math.max(...all)];
  const room = Math.max(high - low, 2);
  const d = (rows: number[]) =>
    rows
      .map((v, k) => {
        const x = (k / Math.max(rows.length - 1, 1)) * WIDE;
        const y = 3 + ((v - (low + high) / 2) / room + 0.5) * (TALL - 6);
        return `${k ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`;
      })
      .join("");
  return (
    <div className="mb-1 flex items-center gap-2">
      <span className="num w-3 text-[11px] text-ink-3">{axis}</span>
      <svg
        viewBox={`0 0 ${WIDE} ${TALL}`}
        preserveAspectRatio="none"
        className="h-[34px] min-w-0 flex-1 rounded bg-paper"
        role="img"
        aria-label={`Path in ${axis}: ${room.toFixed(0)} px as filmed and steadied`}
      >
        <path
          d={d(before)}
          fill="none"
          stroke="var(--ink-3)"
          strokeWidth="1"
          strokeDasharray="3 2"
          vectorEffect="non-scaling-stroke"
        />
        <path
          d={d(after)}
          fill="none"
          stroke="var(--tide)"
          strokeWidth="2"
          vectorEffect="non-scaling-stroke"
        />
        {at >= 0 && at <= 1 && (
          <path
            d={`M${at * WIDE} 0V${TALL}`}
            stroke="var(--ink)"
            strokeWidth="1"
            vectorEffect="non-scaling-stroke"
          />
        )}
      </svg>
      <span className="num w-12 text-right text-[11px] text-ink-3">{(high - low).toFixed(0)} px</span>
    </div>
  );
}
