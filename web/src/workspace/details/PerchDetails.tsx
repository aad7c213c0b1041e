import { Trash2 } from "lucide-react";
import type { Perch, Spot } from "~/api/client";
import { useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { useOpenShot } from "~/workspace/context";
import { FollowRows } from "~/workspace/details/FollowRows";
import { Group, Title } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { allLayers, setOnPerch } from "~/workspace/patches";
import { Duplicate } from "~/workspace/details/StackParts";
import { act, useWorkspace } from "~/workspace/store";

export function PerchDetails({ perch }: { perch: Perch }) {
  const { record, edits } = useOpenShot();
  const { data: kinds } = useKinds("layer");
  const frame = useWorkspace((s) => s.frame);
  const shot = record.document;
  // A perch is placed by the same fields as a still.
  const schema = kinds?.find((k) => k.kind === "still")?.schema;
  const set = (label: string, values: Partial<Perch>) =>
    void edits.edit(label, setOnPerch(shot, perch.id, values));
  const retarget = (target: string | null) =>
    void edits.operate({ do: "retarget", thing: perch.id, target, frame });
  const sitting = [
    ...shot.perches
      .filter((p) => p.follow.target === perch.id)
      .map((p) => ({ id: p.id, name: p.name, chosen: { kind: "perch", id: p.id } as const })),
    ...allLayers(shot).flatMap((l) => {
      const on =
        "follow" in l
          ? l.follow.target === perch.id
          : l.kind === "beam" && l.anchors.some((a) => a.target === perch.id);
      return on ? [{ id: l.id, name: l.name, chosen: { kind: "layer", id: l.id } as const }] : [];
    }),
  ];
  return (
    <>
      <Title
        title={perch.name}
        sub="Perch: things sit on it and move, turn and scale with it"
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      {perch.spot && <SpotRows perch={perch} spot={perch.spot} set={set} />}
      <FollowRows
        follow={perch.follow}
        self={perch.id}
        onTarget={retarget}
        onChange={(label, follow) => set(label, { follow })}
      />
      {schema && (
        <SchemaForm
          schema={schema}
          groups={["Place"]}
          values={perch as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${perch.name}`, { [field]: value })}
        />
      )}
      <Group title="Sitting on it">
        {sitting.map((s) => (
          <button
            key={s.id}
            className="block text-xs text-tide hover:underline"
            onClick={() => act({ do: "choose", chosen: s.chosen })}
          >
            {s.name}
          </button>
        ))}
        {!sitting.length && (
          <p className="text-xs text-ink-2">
            Nothing yet. With the perch chosen, plonk an element: it sits here.
          </p>
        )}
      </Group>
      <div className="flex gap-2 border-t border-line pt-3">
        <span className="flex-1" />
        <Duplicate thing={perch} sort="perch" />
        <Button
          aria-label={`Remove ${perch.name}`}
          onClick={() => {
            void edits.operate({ do: "remove", thing: perch.id });
            act({ do: "choose", chosen: { kind: "none" } });
          }}
        >
          <Trash2 className="size-3.5" />
        </Button>
      </div>
    </>
  );
}

function SpotRows({
  perch,
  spot,
  set,
}: {
  perch: Perch;
  spot: Spot;
  set: (label: string, values: Partial<Perch>) => void;
}) {
  const { data: kinds } = useKinds("place");
  const schema = kinds?.find((k) => k.kind === "spot")?.schema;
  return (
    <>
      <p className="mb-1 text-xs text-ink-2">
        Drag it over the ground it stands on; with Shift up and down where it stands.
      </p>
      {schema && (
        <SchemaForm
          schema={schema}
          groups={["In the room"]}
          values={spot as unknown as Record<string, unknown>}
          onChange={(field, value, label) =>
            set(`${label} of ${perch.name}`, { spot: { ...spot, [field]: value } as Spot })
          }
        />
      )}
    </>
  );
}
