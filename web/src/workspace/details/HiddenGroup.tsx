import type { Layer } from "~/api/client";
import { OnOff } from "~/ui/OnOff";
import { depthsOf, roomUnder, useAddDepth } from "~/workspace/actions/depth";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { act } from "~/workspace/store";

/** Whether a layer in a solved room goes behind what the footage shows before it. */
export function HiddenGroup({ layer, set }: { layer: Layer; set: (label: string, values: object) => void }) {
  const { record } = useOpenShot();
  const add = useAddDepth();
  const shot = record.document;
  const follow = "follow" in layer ? layer.follow : null;
  const room = shot.motions.find((m) => m.id === roomUnder(shot, follow?.target));
  if (!follow || room?.kind !== "camera" || !room.measurement) return null;
  const depth = depthsOf(shot).find((m) => m.camera === room.id);
  if (!depth)
    return (
      <Group title="Behind the set">
        <p className="mb-1 text-xs text-ink-2">
          It stands before everything in the footage. Once depth is measured, it goes behind what is nearer.
        </p>
        <button className="text-xs font-semibold text-tide hover:underline" onClick={() => void add()}>
          Measure how far things are
        </button>
      </Group>
    );
  return (
    <Group
      title="Behind the set"
      side={
        <button
          className="font-semibold text-tide"
          onClick={() => act({ do: "choose", chosen: { kind: "motion", id: depth.id, point: null } })}
        >
          {depth.name}
        </button>
      }
    >
      <Row label="Hidden by it" help="Goes behind what the footage shows before it." wide>
        <span className="justify-self-start">
          <OnOff
            label="Hidden by the set"
            checked={follow.hidden}
            onChange={(hidden) => set(`Hidden by the set: ${layer.name}`, { follow: { ...follow, hidden } })}
          />
        </span>
      </Row>
      {!depth.measurement ? (
        <p className="text-xs text-brick">{depth.name} is not measured yet.</p>
      ) : (
        !depth.hides && <p className="text-xs text-ink-2">{depth.name} is set to hide nothing.</p>
      )}
    </Group>
  );
}
