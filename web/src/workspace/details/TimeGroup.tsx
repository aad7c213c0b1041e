import type { Kind, Layer } from "~/api/client";
import { Button } from "~/ui/Button";
import { NumberBox } from "~/ui/NumberBox";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import type { Set } from "~/workspace/details/LayerKinds";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { lengthOf } from "~/workspace/time";
import { timesOf, useSplit } from "~/workspace/timestrip/Bars";

/** When a layer is there; its bar in the time strip says the same. */
export function TimeGroup({ layer, kind, set }: { layer: Layer; kind: Kind; set: Set }) {
  const { record } = useOpenShot();
  const split = useSplit();
  const frames = lengthOf(record.document.footage) || 1;
  const { begins, ends } = timesOf(layer, frames);
  const always = layer.begins === null && layer.ends === null;
  return (
    <Group title="Time">
      <Row label="Begins" help="The first frame on which it is there" wide>
        <NumberBox
          label="Begins"
          value={begins}
          low={0}
          high={ends}
          step={1}
          unit="fr"
          onCommit={(v) => set(`${layer.name} begins`, { begins: Math.round(v) || null })}
        />
      </Row>
      <Row label="Ends" help="The last frame on which it is there" wide>
        <NumberBox
          label="Ends"
          value={ends}
          low={begins}
          high={frames - 1}
          step={1}
          unit="fr"
          onCommit={(v) => set(`${layer.name} ends`, { ends: Math.round(v) })}
        />
      </Row>
      <SchemaForm
        schema={kind.schema}
        groups={["Time"]}
        bare
        values={layer as unknown as Record<string, unknown>}
        onChange={(field, value, label) => set(`${label} of ${layer.name}`, { [field]: value })}
      />
      <span className="mt-1 flex gap-1.5">
        <Button title="Ends here; another one goes on (Y)" onClick={() => void split(layer)}>
          Split here
        </Button>
        {!always && (
          <Button
            onClick={() =>
              set(`${layer.name} all the time`, { begins: null, ends: null, fade_in: 0, fade_out: 0 })
            }
          >
            All the time
          </Button>
        )}
      </span>
    </Group>
  );
}
