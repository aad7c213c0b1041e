import type { BeamLayer, FormLayer, Layer, PinLayer, PlacedLayer, StillLayer } from "~/api/client";
import { useAssets, useKinds } from "~/api/queries";
import { Choice } from "~/ui/Choice";
import { useCheckSlip } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { FollowRows } from "~/workspace/details/FollowRows";
import { Group, Row, Title } from "~/workspace/details/Group";
import { GeneratedGroup } from "~/workspace/details/GeneratedGroup";
import { LayerAhead } from "~/workspace/details/Ahead";
import { KeyGroup } from "~/workspace/details/KeyGroup";
import { LookList } from "~/workspace/details/LookList";
import { MatchGroup } from "~/workspace/details/MatchGroup";
import { MatteGroup, StackButtons } from "~/workspace/details/StackParts";
import { LightFrom, Pivot, TrueSize, useLitByOther } from "~/workspace/details/ModelParts";
import { MaskGroup } from "~/workspace/details/MaskGroup";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { apply, turnAndSize, valueAt } from "~/workspace/geometry";
import { findLayer, type LayerValues, round, setOnLayer, stands } from "~/workspace/patches";
import { frameFromOwn, ownSize, toSpace, useSpaces } from "~/workspace/spaces";
import { useLayerSlip } from "~/workspace/slip";
import { act, useWorkspace } from "~/workspace/store";

const GROUPS: Record<Layer["kind"], string[]> = {
  still: ["Place", "Mix", "Cut"],
  pin: ["Pin", "Mix", "Cut"],
  beam: ["Beam", "Hung on it", "Mix"],
  generated: ["Place", "Mix"],
  model: ["Model", "Stands", "Light", "Shadow ground", "Copies", "Haze", "Mix"],
  form: ["Form", "Stands", "Mix"],
  lamp: ["Lamp", "Stands"],
  dome: ["Dome"],
  fill: ["Colour", "Ends", "Mix"],
  wash: ["Mix"],
  parcel: ["Place", "Time", "Mix"],
};

const picture = (layer: Layer): layer is StillLayer | PinLayer =>
  layer.kind === "still" || layer.kind === "pin";

export function LayerDetails({ layer }: { layer: Layer }) {
  const { edits } = useOpenShot();
  const lookMasks = useWorkspace((w) => w.lookMasks);
  const { data: kinds } = useKinds("layer");
  const { data: assets } = useAssets();
  const schema = kinds?.find((k) => k.kind === layer.kind)?.schema;
  const set = (label: string, values: LayerValues) =>
    void edits.edit(label, (latest) => setOnLayer(latest, layer.id, values));
  const isClip = picture(layer) && assets?.find((a) => a.digest === layer.asset)?.kind === "clip";
  const all = GROUPS[layer.kind].filter(
    (g) => g !== "Ends" || (layer.kind === "fill" && layer.course !== "even"),
  );
  const groups = isClip ? [...all, "Clip"] : all;
  const litByOther = useLitByOther(layer);
  const inRoom = stands(layer) || layer.kind === "dome";
  // Lights, and what is really there, are not seen themselves.
  const seen =
    layer.kind !== "lamp" && layer.kind !== "dome" && !(layer.kind === "form" && layer.use === "holdout");
  return (
    <>
      <Title
        title={layer.name}
        sub={<Sub layer={layer} isClip={Boolean(isClip)} />}
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      {(layer.kind === "still" || layer.kind === "generated" || layer.kind === "parcel") && (
        <PlacedFollow layer={layer} set={set} />
      )}
      {layer.kind === "fill" && layer.course !== "even" && (
        <FollowRows
          follow={layer.follow}
          self={layer.id}
          onTarget={(target) =>
            set(`${layer.name} follows`, { follow: { ...layer.follow, target, perspective: true } })
          }
          onChange={(label, follow) => set(label, { follow })}
        />
      )}
      {layer.kind === "pin" && <PinnedTo layer={layer} set={set} />}
      {layer.kind === "beam" && <Hung layer={layer} set={set} />}
      {picture(layer) && <SlipRows layer={layer} />}
      {layer.kind === "generated" && <GeneratedGroup layer={layer} set={set} />}
      {picture(layer) && <KeyGroup layer={layer} />}
      {layer.kind === "model" && (
        <>
          <LightFrom layer={layer} set={set} />
          <Group title="From its file">
            <TrueSize layer={layer} set={set} />
            <Pivot layer={layer} />
          </Group>
        </>
      )}
      {inRoom && schema && (
        <SchemaForm
          schema={schema}
          groups={groups.filter((g) => g !== "Light" || !litByOther)}
          leaveOut={[
            ...(layer.kind === "form" && layer.shape === "plane" ? ["tall"] : []),
            ...(seen ? [] : ["soft", "blend"]),
          ]}
          values={layer as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${layer.name}`, { [field]: value })}
        />
      )}
      {layer.kind === "form" && layer.use === "plate" && <FromFrames layer={layer} set={set} />}
      {layer.kind === "model" && <LayerAhead layer={layer.id} what="filmed" />}
      {layer.kind !== "wash" && layer.kind !== "fill" && (!inRoom || layer.kind === "model") && (
        <MatchGroup layer={layer} isClip={Boolean(isClip)} />
      )}
      {!lookMasks && seen && (
        <MaskGroup
          help={
            layer.kind === "wash"
              ? "A mask limits its looks."
              : "A mask cuts it: only what is inside is seen."
          }
        />
      )}
      {seen && <MatteGroup layer={layer} set={set} />}
      {!inRoom && schema && (
        <SchemaForm
          schema={schema}
          groups={groups}
          values={layer as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${layer.name}`, { [field]: value })}
        />
      )}
      {seen && (
        <LookList
          title="Looks"
          help={
            layer.kind === "wash"
              ? "Add a look: it applies to everything below."
              : "Colour, blur, glow, light wrap: on this layer alone."
          }
          looks={layer.looks}
          owned={"follow" in layer && layer.kind !== "fill" && !inRoom}
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
  const { data: generators } = useKinds("generator");
  if (layer.kind === "beam") return `Beam, tied in ${layer.anchors.length} places`;
  if (layer.kind === "generated")
    return generators?.find((g) => g.kind === layer.generator.kind)?.help ?? "Generated as the shot runs";
  if (layer.kind === "model")
    return "3D model in the room: drag it over the ground, with Shift up and down, with Ctrl on to what is there";
  if (layer.kind === "lamp") return "Soft light on the models in its room";
  if (layer.kind === "dome") return "Light from all round, on the models in its room";
  if (layer.kind === "form")
    return layer.use === "holdout"
      ? "What is really there: hides models and takes their shadows"
      : "The plate of other frames, projected on a form";
  if (layer.kind === "fill") return layer.course === "even" ? "One colour over everything" : "A gradient";
  if (layer.kind === "wash") return "Wash: its looks apply to everything below it";
  if (layer.kind === "parcel") {
    const inside = record.document.parcels.find((p) => p.id === layer.parcel)?.stack.length ?? 0;
    return `Parcel of ${inside} ${inside === 1 ? "layer" : "layers"}`;
  }
  return `${layer.kind === "pin" ? "Pinned" : "Placed"} ${isClip ? "clip" : "still"}, ${layer.width} × ${layer.height}`;
}

type Set = (label: string, values: LayerValues) => void;

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

function PlacedFollow({ layer, set }: { layer: PlacedLayer; set: Set }) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const shot = record.document;

  const retarget = (target: string | null) => {
    // It stays where it is in this frame, and follows (or stays put) from here on.
    const { width, height } = ownSize(layer);
    const middle =
      layer.kind === "generated"
        ? { x: width / 2, y: height / 2 }
        : {
            x: (width * valueAt(layer.anchor_x, frame)) / 100,
            y: (height * valueAt(layer.anchor_y, frame)) / 100,
          };
    const now = frameFromOwn(layer, spaces, frame);
    const { turn, size } = turnAndSize(now, middle);
    const place = apply(now, middle);
    const onPlane = shot.motions.find((m) => m.id === target)?.kind === "plane";
    const follow = { ...layer.follow, target, reference_frame: frame, perspective: onPlane };
    const at = toSpace(follow, spaces, frame, place);
    // The new target's own turn and size in this frame are taken off again: on a perch they are not nought.
    const own = turnAndSize(spaces.of(follow, frame), at);
    const values: LayerValues = { follow };
    if (typeof layer.x === "number") values["x"] = round(at.x);
    if (typeof layer.y === "number") values["y"] = round(at.y);
    if (typeof layer.size === "number") values["size"] = round((size * 100) / own.size);
    if (typeof layer.turn === "number") values["turn"] = round(turn - own.turn);
    const name =
      shot.motions.find((m) => m.id === target)?.name ?? shot.perches.find((p) => p.id === target)?.name;
    set(name ? `${layer.name} follows ${name}` : `${layer.name} stays put`, values);
  };

  return (
    <FollowRows
      follow={layer.follow}
      self={layer.id}
      onTarget={retarget}
      onChange={(label, follow) => set(label, { follow })}
    />
  );
}

function PinnedTo({ layer, set }: { layer: PinLayer; set: Set }) {
  const { record } = useOpenShot();
  const planes = record.document.motions.filter((m) => m.kind === "plane");
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
