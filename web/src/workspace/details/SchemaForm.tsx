import { Diamond, RotateCcw } from "lucide-react";
import { Fragment, useState } from "react";
import type { CurvePoint, FieldHints, JsonSchema, Keyed, Num } from "~/api/client";
import { useAssets } from "~/api/queries";
import { Choice } from "~/ui/Choice";
import { NumberBox } from "~/ui/NumberBox";
import { OnOff } from "~/ui/OnOff";
import { Slider } from "~/ui/Slider";
import { CurveBox } from "~/workspace/details/CurveBox";
import { Group, Row } from "~/workspace/details/Group";
import { NumberMenu } from "~/workspace/details/NumberMenu";
import { baseAt, baseOf, isKeyed, keysOf, newKey, valueAt, withBase, withValue } from "~/workspace/geometry";
import { holds } from "~/workspace/kinds";
import { useWorkspace } from "~/workspace/store";

export type FieldValue = Num | string | boolean | null | CurvePoint[];

interface Props {
  schema: JsonSchema;
  /** Only fields of these groups, in this order; fields without a group are left out. */
  groups: string[];
  values: Record<string, unknown>;
  onChange: (field: string, value: FieldValue, label: string) => void;
  /** Fields of those groups that are not shown. */
  leaveOut?: string[];
  /** Options of choices that make no sense here. */
  leaveOptionsOut?: string[];
  /** The models and forms of the room, for fields that name one. */
  things?: { id: string; name: string }[];
  /** Rows only, inside a group that is there already. */
  bare?: boolean;
}

/** A form made from the schema of a registered kind. */
export function SchemaForm({
  schema,
  groups,
  values,
  onChange,
  leaveOut = [],
  leaveOptionsOut = [],
  things = [],
  bare = false,
}: Props) {
  const fields = Object.entries(schema.properties ?? {}).flatMap(([name, p]) =>
    p["x-plonket"] ? [{ name, hints: p["x-plonket"] }] : [],
  );
  return groups.map((group) => {
    const rows = fields
      // A perch is shown by the form of what is placed, but has not all of it.
      .filter(
        (f) =>
          f.hints.group === group &&
          values[f.name] !== undefined &&
          holds(f.hints.when, values) &&
          !leaveOut.includes(f.name),
      )
      .map(({ name, hints }) => (
        <Field
          key={name}
          hints={without(hints, leaveOptionsOut)}
          things={things}
          value={values[name] as FieldValue}
          onChange={(v) => onChange(name, v, hints.label)}
        />
      ));
    if (bare || !rows.length) return <Fragment key={group}>{rows}</Fragment>;
    return (
      <Group key={group} title={group}>
        {rows}
      </Group>
    );
  });
}

const without = (hints: FieldHints, options: string[]): FieldHints =>
  hints.names && options.length
    ? {
        ...hints,
        names: Object.fromEntries(Object.entries(hints.names).filter(([k]) => !options.includes(k))),
      }
    : hints;

function Field({
  hints,
  things,
  value,
  onChange,
}: {
  hints: FieldHints;
  things: { id: string; name: string }[];
  value: FieldValue;
  onChange: (v: FieldValue) => void;
}) {
  if (hints.control === "choice")
    return (
      <Row label={hints.label} help={hints.help} wide>
        <Choice label={hints.label} value={String(value)} names={hints.names ?? {}} onChange={onChange} />
      </Row>
    );
  if (hints.control === "switch")
    return (
      <Row label={hints.label} help={hints.help} wide>
        <span className="justify-self-start">
          <OnOff label={hints.label} checked={Boolean(value)} onChange={onChange} />
        </span>
      </Row>
    );
  if (hints.control === "colour")
    return (
      <Row label={hints.label} help={hints.help} wide>
        <input
          type="color"
          aria-label={hints.label}
          className="h-7 w-14 cursor-pointer rounded-md border border-line bg-raise p-0.5"
          key={String(value)}
          defaultValue={String(value)}
          onBlur={(e) => e.target.value !== value && onChange(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
        />
      </Row>
    );
  if (hints.control === "curve")
    return (
      <details className="my-1 text-xs text-ink-2" open={hints.label === "All"}>
        <summary className="cursor-pointer">{hints.label}</summary>
        <CurveBox
          label={hints.label}
          points={value as CurvePoint[]}
          colour={CHANNELS[hints.label] ?? "var(--ink)"}
          onChange={onChange}
        />
      </details>
    );
  if (hints.control === "asset")
    return <AssetRow hints={hints} value={value as string | null} onChange={onChange} />;
  if (hints.control === "thing") {
    const names = { ...hints.names, ...Object.fromEntries(things.map((t) => [t.id, t.name])) };
    return (
      <Row label={hints.label} help={hints.help} wide>
        <Choice
          label={hints.label}
          value={typeof value === "string" && value in names ? value : "every"}
          names={names}
          onChange={(v) => onChange(v === "every" ? null : v)}
        />
      </Row>
    );
  }
  return <NumberRow hints={hints} value={value as Num} onChange={onChange} />;
}

const CHANNELS: Record<string, string> = { Red: "#c9473d", Green: "#3f9a55", Blue: "#3f6fc9" };

/** Something of a kind from the shelf. */
function AssetRow({
  hints,
  value,
  onChange,
}: {
  hints: FieldHints;
  value: string | null;
  onChange: (v: string | null) => void;
}) {
  const { data: assets } = useAssets();
  const names: Record<string, string> = { none: "Choose one …" };
  for (const a of assets ?? []) if (a.kind === "table") names[a.digest] = a.name;
  return (
    <Row label={hints.label} help={hints.help} wide>
      <Choice
        label={hints.label}
        value={value ?? "none"}
        names={names}
        onChange={(v) => onChange(v === "none" ? null : v)}
      />
    </Row>
  );
}

/** A number: slider, box, and a key button when it can move; reset when it is not at its default. */
function NumberRow({
  hints,
  value,
  onChange,
}: {
  hints: FieldHints;
  value: Num;
  onChange: (v: Num) => void;
}) {
  const frame = useWorkspace((s) => s.frame);
  const [live, setLive] = useState<number | null>(null);
  const overAll = useWorkspace((s) => s.overAll);
  const { low = 0, high = 100, step = 1, unit = "", soft = [low, high] } = hints;
  const now = live ?? valueAt(value, frame);
  const movable = hints.control === "number";
  const keyed = isKeyed(value);
  const keyHere = keysOf(value).some((k) => k.frame === frame);
  const commit = (v: number) => {
    setLive(null);
    onChange(withValue(value, frame, v, overAll ? (low > 0 ? "scale" : "move") : "here"));
  };
  const toggleKey = () => {
    const still = baseAt(value, frame);
    if (!isKeyed(value)) onChange(withBase(value, { keys: [newKey(frame, still)] }));
    else if (!keyHere) onChange(withBase(value, withValue(baseOf(value), frame, still) as Keyed));
    else {
      const keys = keysOf(value).filter((k) => k.frame !== frame);
      onChange(withBase(value, keys.length ? { keys } : still));
    }
  };
  const wide = soft[1] - soft[0] > 10000;
  return (
    <Row
      label={movable ? <NumberMenu hints={hints} value={value} onChange={onChange} /> : hints.label}
      help={hints.help}
    >
      {wide ? (
        <span />
      ) : (
        <Slider
          label={hints.label}
          value={now}
          low={soft[0]}
          high={soft[1]}
          step={step}
          keyed={keyed}
          onPreview={setLive}
          onCommit={commit}
        />
      )}
      <NumberBox
        label={`${hints.label} value`}
        value={now}
        low={low}
        high={high}
        step={step}
        unit={unit}
        nought={hints.nought}
        onPreview={setLive}
        onCommit={commit}
      />
      {movable ? (
        <button
          aria-label={`Key ${hints.label} here`}
          aria-pressed={keyHere}
          title={keyHere ? "Take this key away" : "Set a key at this frame"}
          className={`grid size-[22px] place-items-center rounded ${keyed ? "text-saffron" : "text-ink-3"} hover:bg-saffron-2`}
          onClick={toggleKey}
        >
          <Diamond className="size-3.5" fill={keyHere ? "currentColor" : "none"} />
        </button>
      ) : (
        <button
          aria-label={`Reset ${hints.label}`}
          title="Back to the default"
          disabled={now === hints.default}
          className="grid size-[22px] place-items-center rounded text-ink-3 hover:bg-paper disabled:opacity-25"
          onClick={() => onChange(Number(hints.default))}
        >
          <RotateCcw className="size-3" />
        </button>
      )}
    </Row>
  );
}
