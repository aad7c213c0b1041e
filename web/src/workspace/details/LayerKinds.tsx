import type { FC } from "react";
import type {
  BeamLayer,
  FillLayer,
  FormLayer,
  GeneratedLayer,
  Layer,
  MeshLayer,
  PinLayer,
  WorkedLayer,
} from "~/api/client";
import { useAssets } from "~/api/queries";
import { Choice } from "~/ui/Choice";
import { useOpenShot } from "~/workspace/context";
import { WhatIsBehind } from "~/workspace/details/FrontParts";
import { FollowRows } from "~/workspace/details/FollowRows";
import { GeneratedGroup } from "~/workspace/details/GeneratedGroup";
import { Group, Row } from "~/workspace/details/Group";
import { LightFrom, Pivot, TrueSize } from "~/workspace/details/ModelParts";
import { LampsRow } from "~/workspace/details/LampsRow";
import { MovementChoice, PartsGroup } from "~/workspace/details/ModelLooks";
import { has } from "~/workspace/kinds";
import type { LayerValues } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

/** Sets values of the chosen layer as one step. */
export type Set = (label: string, values: LayerValues) => void;
type Part<L extends Layer> = FC<{ layer: L; set: Set }>;

/** The frames whose plate is projected: the first shows, the next ones fill what it does not see. */
function FromFrames({ layer, set }: { layer: FormLayer; set: Set }) {
  const frame = useWorkspace((s) => s.frame);
  return (
    <Group title="From frames">
      <p className="flex flex-wrap items-center gap-1.5 text-xs">
        {layer.frames.map((f, k) => (
          <span
            key={f}
            className="flex items-center gap-1 rounded-md border border-line bg-raise px-1.5 py-0.5"
          >
            <button className="num font-semibold text-tide" onClick={() => act({ do: "frame", frame: f })}>
              {f}
            </button>
            {layer.frames.length > 1 && (
              <button
                aria-label={`Take frame ${f} away`}
                className="text-ink-2 hover:text-ink"
                onClick={() =>
                  set(`${layer.name} without frame ${f}`, { frames: layer.frames.filter((_, i) => i !== k) })
                }
              >
                ✕
              </button>
            )}
          </span>
        ))}
        {!layer.frames.includes(frame) && layer.frames.length < 12 && (
          <button
            className="font-semibold text-tide"
            onClick={() => set(`${layer.name} from frame ${frame} too`, { frames: [...layer.frames, frame] })}
          >
            Add this frame
          </button>
        )}
      </p>
      <p className="mt-1 text-xs text-ink-2">
        Choose frames that show the place without what is in the way; the first counts most.
      </p>
    </Group>
  );
}

function PinnedTo({ layer, set }: { layer: PinLayer; set: Set }) {
  const { record } = useOpenShot();
  const planes = record.document.motions.filter((m) => has("motion", m, "surface"));
  const names = Object.fromEntries(planes.map((m) => [m.id, m.name]));
  return (
    <Group title="Pinned to">
      <Row label="Plane" wide>
        <Choice
          label="Plane it is pinned to"
          value={layer.plane}
          names={names}
          onChange={(v) => set(`Pin ${layer.name} to ${names[v] ?? ""}`, { plane: v })}
        />
      </Row>
      <p className="text-xs text-ink-2">
        Its corners are the plane's quad: drag them in the picture. Away from the reference frame a dragged
        corner becomes a stake.
      </p>
    </Group>
  );
}

function Hung({ layer, set }: { layer: BeamLayer; set: Set }) {
  const { data: assets } = useAssets();
  const { record } = useOpenShot();
  const shot = record.document;
  const names: Record<string, string> = { none: "Nothing" };
  for (const a of assets ?? []) if (a.kind === "still") names[a.digest] = a.name;
  const tied = layer.anchors.map((a) => {
    const motion = shot.motions.find((m) => m.id === a.target);
    if (motion?.kind === "points") return motion.points.find((p) => p.id === a.point)?.name ?? motion.name;
    return motion?.name ?? shot.perches.find((p) => p.id === a.target)?.name ?? "?";
  });
  return (
    <Group title="Tied to">
      <p className="mb-1 text-xs text-ink-2">{tied.join(" → ")}. Drag a knot to tie it elsewhere.</p>
      <Row label="Hung on it" wide>
        <Choice
          label="What hangs on the beam"
          value={layer.bead ?? "none"}
          names={names}
          onChange={(v) => {
            const asset = assets?.find((a) => a.digest === v);
            set(asset ? `Hang ${asset.name} on ${layer.name}` : `Hang nothing on ${layer.name}`, {
              bead: asset?.digest ?? null,
              bead_width: asset?.width ?? 0,
              bead_height: asset?.height ?? 0,
            });
          }}
        />
      </Row>
    </Group>
  );
}

function Ends({ layer, set }: { layer: FillLayer; set: Set }) {
  if (layer.course === "even") return null;
  return (
    <FollowRows
      follow={layer.follow}
      self={layer.id}
      onTarget={(target) =>
        set(`${layer.name} follows`, { follow: { ...layer.follow, target, perspective: true } })
      }
      onChange={(label, follow) => set(label, { follow })}
    />
  );
}

function OfModel({ layer, set }: { layer: MeshLayer; set: Set }) {
  return (
    <>
      <LightFrom layer={layer} set={set} />
      <Group title="From its file">
        <TrueSize layer={layer} set={set} />
        <Pivot layer={layer} />
        <MovementChoice layer={layer} set={set} />
        <LampsRow layer={layer} />
      </Group>
      <PartsGroup layer={layer} set={set} />
    </>
  );
}

const LitLike = ({ layer, set }: { layer: WorkedLayer; set: Set }) => <LightFrom layer={layer} set={set} />;
const Frames = ({ layer, set }: { layer: FormLayer; set: Set }) =>
  layer.use === "plate" && <FromFrames layer={layer} set={set} />;
const Generated = ({ layer, set }: { layer: GeneratedLayer; set: Set }) => (
  <GeneratedGroup layer={layer} set={set} />
);

/** What only one kind has besides its form: above the form, and below it. Kinds without anything of their own need no entry. */
const ABOVE: Partial<Record<string, unknown>> = {
  fill: Ends,
  pin: PinnedTo,
  beam: Hung,
  generated: Generated,
  model: OfModel,
  plate: WhatIsBehind,
  breaking: LitLike,
  relief: LitLike,
};
const BELOW: Partial<Record<string, unknown>> = { form: Frames };

export function OwnParts({ layer, set, where }: { layer: Layer; set: Set; where: "above" | "below" }) {
  const Of = (where === "above" ? ABOVE : BELOW)[layer.kind] as Part<Layer> | undefined;
  return Of ? <Of layer={layer} set={set} /> : null;
}
