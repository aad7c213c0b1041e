import type { GeneratedLayer } from "~/api/client";
import { roomOf, solidsIn } from "~/workspace/actions/models";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { RidesRow } from "~/workspace/details/RidesRow";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, kindOf } from "~/workspace/kinds";
import { findLayer, type LayerValues, setOnLayer } from "~/workspace/patches";

const OFF_THINGS = ["surface", "edges"];

/** What is generated, with all its settings. */
export function GeneratedGroup({
  layer,
  set,
}: {
  layer: GeneratedLayer;
  set: (label: string, values: LayerValues) => void;
}) {
  const { edits, record } = useOpenShot();
  // One number after another may be changed before the first answer is here: each is set on what there is by then.
  const setOne = (label: string, field: string, value: unknown) =>
    void edits.edit(`${label} of ${layer.name}`, (latest) => {
      const now = findLayer(latest, layer.id);
      const generator = now?.kind === "generated" ? now.generator : layer.generator;
      return setOnLayer(latest, layer.id, { generator: { ...generator, [field]: value } });
    });
  const kind = kindOf("generator", layer.generator.kind);
  const groups = groupsOf(kind, layer.generator);
  const room = roomOf(record.document, layer.follow.target);
  const things = room ? solidsIn(record.document, room) : [];
  const offThings = "thing" in layer.generator && OFF_THINGS.includes(layer.generator.shape);
  return (
    <>
      {offThings && !things.length && (
        <p className="px-3 py-1 text-xs text-ink-2">
          It comes off models and forms that stand in the same solved room: until there is one, it comes from
          a spot.
        </p>
      )}
      {"behind" in layer.generator && layer.generator.behind && (
        <Group title="Left behind">
          <RidesRow
            label="Stay on"
            help="Where they are that are left behind when their source moves on"
            value={layer.stays}
            onChange={(stays) => set(`${layer.name} stays elsewhere`, { stays })}
          />
        </Group>
      )}
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={[...groups.filter((g) => g !== "Seed"), "Seed"]}
          things={things}
          values={layer.generator as unknown as Record<string, unknown>}
          onChange={(field, value, label) => setOne(label, field, value)}
        />
      )}
    </>
  );
}
