import type { GeneratedLayer } from "~/api/client";
import { useKinds } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { RidesRow } from "~/workspace/details/RidesRow";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { findLayer, type LayerValues, setOnLayer } from "~/workspace/patches";

/** What is generated, with all its settings. */
export function GeneratedGroup({
  layer,
  set,
}: {
  layer: GeneratedLayer;
  set: (label: string, values: LayerValues) => void;
}) {
  const { edits } = useOpenShot();
  // One number after another may be changed before the first answer is here: each is set on what there is by then.
  const setOne = (label: string, field: string, value: unknown) =>
    void edits.edit(`${label} of ${layer.name}`, (latest) => {
      const now = findLayer(latest, layer.id);
      const generator = now?.kind === "generated" ? now.generator : layer.generator;
      return setOnLayer(latest, layer.id, { generator: { ...generator, [field]: value } });
    });
  const { data: kinds } = useKinds("generator");
  const schema = kinds?.find((k) => k.kind === layer.generator.kind)?.schema;
  const groups = [
    ...new Set(
      Object.values(schema?.properties ?? {}).flatMap((p) =>
        p["x-plonket"]?.group ? [p["x-plonket"].group] : [],
      ),
    ),
  ];
  return (
    <>
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
      {schema && (
        <SchemaForm
          schema={schema}
          groups={[...groups.filter((g) => g !== "Seed"), "Seed"]}
          values={layer.generator as unknown as Record<string, unknown>}
          onChange={(field, value, label) => setOne(label, field, value)}
        />
      )}
    </>
  );
}
