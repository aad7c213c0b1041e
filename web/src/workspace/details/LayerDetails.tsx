import { OwnParts, type Set } from "~/workspace/details/LayerKinds";
import { groupsOf, has, kindOf, told } from "~/workspace/kinds";
import type { KeyedLayer, Layer, PinLayer, PlacedLayer, StillLayer } from "~/api/client";
import { useAssets, useKinds } from "~/api/queries";
import { useCheckSlip } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { HiddenGroup } from "~/workspace/details/HiddenGroup";
import { FollowRows } from "~/workspace/details/FollowRows";
import { Group, Title } from "~/workspace/details/Group";
import { LayerAhead } from "~/workspace/details/Ahead";
import { KeyGroup } from "~/workspace/details/KeyGroup";
import { LookList } from "~/workspace/details/LookList";
import { SetLightGroup } from "~/workspace/details/SetLightGroup";
import { MatchGroup } from "~/workspace/details/MatchGroup";
import { MatteGroup, StackButtons } from "~/workspace/details/StackParts";
import { TimeGroup } from "~/workspace/details/TimeGroup";
import { useLitByOther } from "~/workspace/details/ModelParts";
import { MaskGroup } from "~/workspace/details/MaskGroup";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { findLayer, type LayerValues, setOnLayer, stands, isPlaced } from "~/workspace/patches";
import { useLayerSlip } from "~/workspace/slip";
import { act, useWorkspace } from "~/workspace/store";

const isPicture = (layer: Layer): layer is StillLayer | PinLayer => has("layer", layer, "picture");

export function LayerDetails({ layer }: { layer: Layer }) {
  const { record, edits } = useOpenShot();
  const lookMasks = useWorkspace((w) => w.lookMasks);
  const { data: kinds } = useKinds("layer");
  const { data: assets } = useAssets();
  const kind = kinds?.find((k) => k.kind === layer.kind);
  const set = (label: string, values: LayerValues) =>
    void edits.edit(label, (latest) => setOnLayer(latest, layer.id, values));
  const isClip = isPicture(layer) && assets?.find((a) => a.digest === layer.asset)?.kind === "clip";
  const litByOther = useLitByOther(layer);
  const inRoom = stands(layer) || has("layer", layer, "lights");
  // Only what stands on a spot of a room can stand there several times.
  const onSpot =
    isPlaced(layer) && record.document.perches.some((p) => p.id === layer.follow.target && p.spot);
  const groups = [...groupsOf(kind, layer), ...(isClip ? ["Clip"] : [])].filter(
    (g) =>
      g !== "Time" &&
      (g !== "Light" || !litByOther) &&
      (g !== "Copies" || inRoom || onSpot) &&
      (g !== "Hinge" || onSpot),
  );
  const wash = has("layer", layer, "wash");
  // Lights, and what is really there, are not seen themselves.
  const seen = !has("layer", layer, "lights") && !(layer.kind === "form" && layer.use === "holdout");
  const form = kind && (
    <SchemaForm
      schema={kind.schema}
      groups={groups}
      leaveOut={seen ? [] : ["blend"]}
      values={layer as unknown as Record<string, unknown>}
      onChange={(field, value, label) => set(`${label} of ${layer.name}`, { [field]: value })}
    />
  );
  return (
    <>
      <Title
        title={layer.name}
        sub={<Sub layer={layer} isClip={Boolean(isClip)} />}
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      {isPlaced(layer) && <PlacedFollow layer={layer} set={set} />}
      <OwnParts layer={layer} set={set} where="above" />
      {seen && <HiddenGroup layer={layer} set={set} />}
      {has("layer", layer, "slips") && <SlipRows layer={layer as StillLayer | PinLayer} />}
      {has("layer", layer, "keyed") && <KeyGroup layer={layer as KeyedLayer} />}
      {inRoom && form}
      <OwnParts layer={layer} set={set} where="below" />
      {has("layer", layer, "filmed") && <LayerAhead layer={layer.id} what="filmed" />}
      {(has("layer", layer, "filmed") || (isPlaced(layer) && has("layer", layer, "matched"))) && (
        <SetLightGroup layer={layer} target={"follow" in layer ? layer.follow.target : null} />
      )}
      {has("layer", layer, "matched") && <MatchGroup layer={layer} isClip={Boolean(isClip)} />}
      {!lookMasks && seen && (
        <MaskGroup
          help={wash ? "A mask limits its looks." : "A mask cuts it: only what is inside is seen."}
        />
      )}
      {seen && <MatteGroup layer={layer} set={set} />}
      {!inRoom && form}
      {kind && <TimeGroup layer={layer} kind={kind} set={set} />}
      {seen && (
        <LookList
          title="Looks"
          help={
            wash
              ? "Add a look: it applies to everything below."
              : "Colour, blur, glow, light wrap: on this layer alone."
          }
          looks={layer.looks}
          owned={isPlaced(layer)}
          layer={layer.id}
          edit={(label, change) =>
            void edits.edit(label, (latest) => {
              const now = findLayer(latest, layer.id) ?? layer;
              return setOnLayer(latest, layer.id, { looks: change(now.looks) });
            })
          }
        />
      )}
      <StackButtons layer={layer} />
    </>
  );
}

function Sub({ layer, isClip }: { layer: Layer; isClip: boolean }) {
  const { record } = useOpenShot();
  if (layer.kind === "generated") return kindOf("generator", layer.generator.kind)?.help ?? "";
  if (layer.kind === "parcel") {
    const inside = record.document.parcels.find((p) => p.id === layer.parcel)?.stack.length ?? 0;
    return `Parcel of ${inside} ${inside === 1 ? "layer" : "layers"}`;
  }
  const says = told(kindOf("layer", layer.kind)?.says, layer);
  return isClip ? says.replace("still", "clip") : says;
}

function PlacedFollow({ layer, set }: { layer: PlacedLayer; set: Set }) {
  const { edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  // It stays where it is in this frame, and follows (or stays put) from here on.
  const retarget = (target: string | null) =>
    void edits.operate({ do: "retarget", thing: layer.id, target, frame });
  return (
    <FollowRows
      follow={layer.follow}
      self={layer.id}
      onTarget={retarget}
      onChange={(label, follow) => set(label, { follow })}
    />
  );
}

/** How well it holds, and where it does not. */
function SlipRows({ layer }: { layer: StillLayer | PinLayer }) {
  const slip = useLayerSlip(layer.id);
  const check = useCheckSlip();
  if (layer.kind === "still" && !layer.follow.target) return null;
  return (
    <Group
      title="Slip"
      side={
        slip ? (
          <span className={`num ${slip.worst.length ? "text-brick" : "text-tide"}`} data-testid="slip">
            {slip.rms_px === null ? "not judged" : `${slip.rms_px.toFixed(2)} px`}
          </span>
        ) : (
          <button className="font-semibold text-tide" onClick={() => void check([layer.id])}>
            Check
          </button>
        )
      }
    >
      {!slip && <p className="text-xs text-ink-2">Measures how far it swims against the plate round it.</p>}
      {slip?.message && <p className="text-xs text-brick">{slip.message}</p>}
      {slip?.worst.map((w) => (
        <button
          key={w.first}
          className="flex w-full justify-between py-0.5 text-xs hover:underline"
          onClick={() => act({ do: "frame", frame: worstFrame(slip.px, w) })}
        >
          <span>
            Frames {w.first}–{w.last}
          </span>
          <span className="num text-brick">{w.px.toFixed(2)} px</span>
        </button>
      ))}
    </Group>
  );
}

export function worstFrame(px: readonly (number | null)[], run: { first: number; last: number }): number {
  let best = run.first;
  for (let f = run.first; f <= run.last; f++) if ((px[f] ?? 0) > (px[best] ?? 0)) best = f;
  return best;
}
