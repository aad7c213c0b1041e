import { Trash2 } from "lucide-react";
import type { Perch, Spot } from "~/api/client";
import { useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { useOpenShot } from "~/workspace/context";
import { FollowRows } from "~/workspace/details/FollowRows";
import { Group, Title } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { apply, turnAndSize } from "~/workspace/geometry";
import { allLayers, round, setOnPerch } from "~/workspace/patches";
import { toSpace, useSpaces } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";

export function PerchDetails({ perch }: { perch: Perch }) {
  const { record, edits } = useOpenShot();
  const { data: kinds } = useKinds("layer");
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const shot = record.document;
  // A perch is placed by the same fields as a still.
  const schema = kinds?.find((k) => k.kind === "still")?.schema;
  const set = (label: string, values: Partial<Perch>) =>
    void edits.edit(label, setOnPerch(shot, perch.id, values));
  const retarget = (target: string | null) => {
    const now = spaces.perch(perch, frame);
    const here = apply(now, { x: 0, y: 0 });
    const { turn, size } = turnAndSize(now, { x: 0, y: 0 });
    const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
    const follow = { ...perch.follow, target, reference_frame: frame, perspective: onPlane };
    const at = toSpace(follow, spaces, frame, here);
    const own = turnAndSize(spaces.of(follow, frame), at);
    set(`${perch.name} follows something else`, {
      follow,
      // What leaves the room is placed in pixels again.
      spot: null,
      x: round(at.x),
      y: round(at.y),
      turn: round(turn - own.turn),
      size: round((size * 100) / own.size),
    });
  };
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
        <Button
          aria-label={`Remove ${perch.name}`}
          onClick={() => {
            void edits.remove(perch.id);
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
