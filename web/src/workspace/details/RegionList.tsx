import { followable } from "~/workspace/kinds";
import { X } from "lucide-react";
import type { LookingMotion, PlaneMotion, PointMotion, Region } from "~/api/client";
import { useAssets } from "~/api/queries";
import { Choice } from "~/ui/Choice";
import { mattesOf } from "~/workspace/actions/mattes";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { ShapeKey } from "~/workspace/details/ShapeKey";
import { setOnMotion } from "~/workspace/patches";
import { act, outlining, useWorkspace } from "~/workspace/store";

/** Change the regions as they stand when the edit's turn comes. */
export type SetRegions = (label: string, change: (now: Region[]) => Region[]) => void;

/** The regions of a plane, or what a camera or a form does not look at. */
export function RegionList({
  motion,
  setRegions,
}: {
  motion: PlaneMotion | LookingMotion;
  setRegions: SetRegions;
}) {
  const chosen = useWorkspace((s) => s.chosen);
  const selected = chosen.kind === "motion" ? motion.regions.find((r) => r.id === chosen.region) : undefined;
  const setRegion = (region: Region, label: string, change: (now: Region) => Partial<Region>) =>
    setRegions(label, (all) => all.map((r) => (r.id === region.id ? { ...r, ...change(r) } : r)));
  return (
    <>
      <ul>
        {motion.regions.map((r) => (
          <li key={r.id} className="flex items-center gap-2">
            <button
              aria-pressed={r.id === selected?.id}
              className="flex min-w-0 flex-1 items-center gap-2 rounded-md px-1 py-1 text-left text-xs aria-pressed:bg-tide-2"
              onClick={() =>
                act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: null, region: r.id } })
              }
            >
              <i
                aria-hidden
                className={`size-3 shrink-0 rounded-[4px] ${r.use ? "bg-tide" : "border-2 border-dashed border-plum"}`}
              />
              <span className="min-w-0 flex-1 truncate">{r.name}</span>
            </button>
            {motion.kind === "plane" && (
              <button
                className={`num w-12 text-right ${r.use ? "text-tide" : "text-plum"}`}
                title={r.use ? "Looked at; click to ignore it" : "Ignored; click to look at it"}
                onClick={() =>
                  setRegion(r, `${r.use ? "Ignore" : "Use"} ${r.name}`, (now) => ({ use: !now.use }))
                }
              >
                {r.use ? "use" : "ignore"}
              </button>
            )}
            <button
              aria-label={`Remove ${r.name}`}
              className="text-ink-3 hover:text-brick"
              onClick={() => setRegions(`Remove ${r.name}`, (all) => all.filter((o) => o.id !== r.id))}
            >
              <X className="size-3.5" />
            </button>
          </li>
        ))}
      </ul>
      {!motion.regions.length && (
        <p className="text-xs text-ink-2">
          {motion.kind === "plane"
            ? "Outline the surface: drag a box, or click round it."
            : motion.kind === "camera"
              ? "Nothing: what moves by itself is found and left out. Outline it where it fills much of the picture."
              : "Nothing: what crosses it is mostly found and left out. Outline it where it covers much of the form."}
        </p>
      )}
      {selected && <RegionRows motion={motion} region={selected} setRegion={setRegion} />}
    </>
  );
}

function RegionRows({
  motion,
  region,
  setRegion,
}: {
  motion: PlaneMotion | LookingMotion;
  region: Region;
  setRegion: (region: Region, label: string, change: (now: Region) => Partial<Region>) => void;
}) {
  const { record } = useOpenShot();
  const names: Record<string, string> = { screen: "Nothing (the screen)" };
  if (motion.kind === "plane") names["surface"] = "The surface itself";
  for (const m of followable(record.document)) if (m.id !== motion.id) names[`motion:${m.id}`] = m.name;
  return (
    <div className="mt-1 rounded-md bg-paper/60 px-2 py-1">
      <Row label="Rides on" wide>
        <Choice
          label={`What ${region.name} rides on`}
          value={region.follow}
          names={names}
          onChange={(v) =>
            setRegion(region, `${region.name} rides on ${names[v] ?? ""}`, () => ({ follow: v }))
          }
        />
      </Row>
      <ShapeKey
        name={region.name}
        outline={region.outline}
        onChange={(change) =>
          setRegion(region, `Key ${region.name}`, (now) => ({ outline: change(now.outline) }))
        }
      />
      <p className="text-[11px] leading-snug text-ink-3">
        Drag points; the small dots between add one; Ctrl-drag bends, double click makes a corner, Delete
        removes.
      </p>
    </div>
  );
}

/** A clip whose white parts are not looked at. */
export function MatteRow({
  value,
  onChange,
}: {
  value: string | null;
  onChange: (label: string, matte: string | null) => void;
}) {
  const { data: assets } = useAssets();
  const { record } = useOpenShot();
  const clip = record.document.footage?.asset;
  const names: Record<string, string> = { none: "None" };
  for (const a of assets ?? [])
    if (a.kind === "clip" && a.state === "ready" && a.digest !== clip) names[a.digest] = a.name;
  if (Object.keys(names).length === 1) return null;
  return (
    <Row label="Matte" help="A clip whose white parts are ignored" wide>
      <Choice
        label="Matte to ignore"
        value={value ?? "none"}
        names={names}
        onChange={(v) =>
          onChange(v === "none" ? "Ignore no matte" : `Ignore ${names[v] ?? ""}`, v === "none" ? null : v)
        }
      />
    </Row>
  );
}

/** The mattes among the motions, each of which may be ignored. */
export function IgnoredMattes({ motion }: { motion: PlaneMotion | PointMotion | LookingMotion }) {
  const { record, edits } = useOpenShot();
  const mattes = mattesOf(record.document);
  if (!mattes.length) return null;
  return (
    <Row label="Ignores" help="What these mattes cover is not looked at. Measure again after a change." wide>
      <span className="flex flex-col gap-0.5">
        {mattes.map((m) => {
          const on = motion.ignored.includes(m.id);
          return (
            <label key={m.id} className="flex items-center gap-1.5 text-xs">
              <input
                type="checkbox"
                className="accent-plum"
                checked={on}
                onChange={() =>
                  void edits.edit(`${on ? "Look at" : "Ignore"} ${m.name}`, (latest) => {
                    const now = latest.motions.find((one) => one.id === motion.id);
                    if (!now || !("ignored" in now)) return [];
                    const rest = now.ignored.filter((id) => id !== m.id);
                    return setOnMotion(latest, motion.id, { ignored: on ? rest : [...rest, m.id] });
                  })
                }
              />
              <span className="truncate">{m.name}</span>
            </label>
          );
        })}
      </span>
    </Row>
  );
}

/** What a camera or a form does not look at: outlines and a matte. */
export function NotLookedAt({ motion }: { motion: LookingMotion }) {
  const { edits } = useOpenShot();
  return (
    <Group
      title="Not looked at"
      side={
        <button
          className="font-semibold text-plum"
          title="Outline what is not to be looked at"
          onClick={() => act({ do: "tool", tool: outlining({ use: false }) })}
        >
          Ignore
        </button>
      }
    >
      <RegionList
        motion={motion}
        setRegions={(label, change) =>
          void edits.edit(label, (latest) => {
            const now = latest.motions.find((m) => m.id === motion.id);
            return now && "regions" in now
              ? setOnMotion(latest, motion.id, { regions: change(now.regions) })
              : [];
          })
        }
      />
      <MatteRow
        value={motion.ignore_matte ?? null}
        onChange={(label, ignore_matte) =>
          void edits.edit(label, (latest) => setOnMotion(latest, motion.id, { ignore_matte }))
        }
      />
      <IgnoredMattes motion={motion} />
    </Group>
  );
}
