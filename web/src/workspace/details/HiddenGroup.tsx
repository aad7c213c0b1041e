import type { Layer } from "~/api/client";
import { OnOff } from "~/ui/OnOff";
import { depthsOf, roomUnder, useAddDepth } from "~/workspace/actions/depth";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { has } from "~/workspace/kinds";
import { act } from "~/workspace/store";

/** Whether a layer in a solved room goes behind what the footage shows before it. */
export function HiddenGroup({ layer, set }: { layer: Layer; set: (label: string, values: object) => void }) {
  const { record } = useOpenShot();
  const add = useAddDepth();
  const shot = record.document;
  const follow = "follow" in layer ? layer.follow : null;
  const room = shot.motions.find((m) => m.id === roomUnder(shot, follow?.target));
  // What is flat and follows the camera itself has no place in its room.
  const flat = has("layer", layer, "placed") && shot.perches.some((p) => p.id === follow?.target);
  const placed = has("layer", layer, "filmed") || flat;
  if (!follow || !placed || !room?.measurement) return null;
  const depth = depthsOf(shot).find((m) => m.camera === room.id);
  return (
    <Group
      title="Behind the set"
      side={
        depth && (
          <button
            className="font-semibold text-tide"
            onClick={() => act({ do: "choose", chosen: { kind: "motion", id: depth.id, point: null } })}
          >
            {depth.name}
          </button>
        )
      }
    >
      <Row
        label="Hidden by it"
        help="Goes behind what is nearer: models and forms, and what the footage shows there once its depth is measured."
        wide
      >
        <span className="justify-self-start">
          <OnOff
            label="Hidden by the set"
            checked={follow.hidden}
            onChange={(hidden) => set(`Hidden by the set: ${layer.name}`, { follow: { ...follow, hidden } })}
          />
        </span>
      </Row>
      {!depth && room.kind === "camera" && follow.hidden && (
        <p className="text-xs text-ink-2">
          It stands before everything in the footage until depth is measured.{" "}
          <button className="font-semibold text-tide hover:underline" onClick={() => void add()}>
            Measure how far things are
          </button>
        </p>
      )}
      {depth && !depth.measurement && <p className="text-xs text-brick">{depth.name} is not measured yet.</p>}
      {depth?.measurement && !depth.hides && (
        <p className="text-xs text-ink-2">{depth.name} is set to hide nothing.</p>
      )}
    </Group>
  );
}
