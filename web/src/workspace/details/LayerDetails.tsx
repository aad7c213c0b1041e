import { ArrowDown, ArrowUp, Trash2 } from "lucide-react";
import type { Layer } from "~/api/client";
import { useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Group, Row, Title } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { carried, valueAt } from "~/workspace/geometry";
import { moveLayer, removeLayer, round, setOnLayer } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { useLayerMatrices } from "~/workspace/viewer/LayerHandles";

export function LayerDetails({ layer }: { layer: Layer }) {
  const { record, edits } = useOpenShot();
  const { data: kinds } = useKinds("layer");
  const frame = useWorkspace((s) => s.frame);
  const matrices = useLayerMatrices(layer);
  const shot = record.document;
  const schema = kinds?.find((k) => k.kind === layer.kind)?.schema;
  const set = (label: string, values: Partial<Layer>) =>
    void edits.edit(label, setOnLayer(shot, layer.id, values));
  const motions = Object.fromEntries(shot.motions.map((m) => [m.id, m.name]));

  const follow = (motion: string | null) => {
    // It stays where it is in this frame, and follows (or stays put) from here on.
    const here = carried(layer.follow, matrices, frame, {
      x: valueAt(layer.x, frame),
      y: valueAt(layer.y, frame),
    });
    const values: Partial<Layer> = { follow: { ...layer.follow, motion, reference_frame: frame } };
    if (typeof layer.x === "number") values.x = round(here.place.x);
    if (typeof layer.y === "number") values.y = round(here.place.y);
    if (typeof layer.size === "number") values.size = round(layer.size * here.size);
    if (typeof layer.turn === "number") values.turn = round(layer.turn + (here.angle * 180) / Math.PI);
    set(motion ? `${layer.name} follows ${motions[motion] ?? ""}` : `${layer.name} stays put`, values);
  };
  const move = (by: -1 | 1) => {
    const patch = moveLayer(shot, layer.id, by);
    if (patch) void edits.edit(by < 0 ? `${layer.name} nearer` : `${layer.name} further`, patch);
  };
  const at = shot.stack.findIndex((l) => l.id === layer.id);

  return (
    <>
      <Title
        title={layer.name}
        sub={`Still, ${layer.width} × ${layer.height}`}
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <Group title="Follows">
        <Row label="Motion" wide>
          <Choice
            label="Motion it follows"
            value={layer.follow.motion ?? "none"}
            names={{ none: "Nothing (stays put)", ...motions }}
            onChange={(v) => follow(v === "none" ? null : v)}
          />
        </Row>
        {layer.follow.motion && (
          <>
            <Row label="From frame" wide>
              <button
                className="num justify-self-start text-tide underline"
                onClick={() => act({ do: "frame", frame: layer.follow.reference_frame })}
              >
                {layer.follow.reference_frame}
              </button>
            </Row>
            {(["shift", "turn", "size"] as const).map((part) => (
              <Row key={part} label={{ shift: "Shift", turn: "Turn", size: "Size" }[part]} wide>
                <span className="justify-self-start">
                  <OnOff
                    label={`Follow ${part}`}
                    checked={layer.follow[part]}
                    onChange={(on) => set(`Follow ${part}`, { follow: { ...layer.follow, [part]: on } })}
                  />
                </span>
              </Row>
            ))}
          </>
        )}
      </Group>
      {schema && (
        <SchemaForm
          schema={schema}
          groups={["Place", "Mix"]}
          values={layer as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${layer.name}`, { [field]: value })}
        />
      )}
      <div className="flex gap-2 border-t border-line pt-3">
        <Button aria-label="Nearer" disabled={at === 0} onClick={() => move(-1)}>
          <ArrowUp className="size-3.5" /> Nearer
        </Button>
        <Button aria-label="Further" disabled={at === shot.stack.length - 1} onClick={() => move(1)}>
          <ArrowDown className="size-3.5" /> Further
        </Button>
        <span className="flex-1" />
        <Button
          aria-label={`Remove ${layer.name}`}
          onClick={() => {
            void edits.edit(`Remove ${layer.name}`, removeLayer(shot, layer.id));
            act({ do: "choose", chosen: { kind: "none" } });
          }}
        >
          <Trash2 className="size-3.5" />
        </Button>
      </div>
    </>
  );
}
