import { ArrowDown, ArrowUp, Trash2 } from "lucide-react";
import type { BeamLayer, Layer, PinLayer, StillLayer } from "~/api/client";
import { useAssets, useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { useCheckSlip } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { FollowRows } from "~/workspace/details/FollowRows";
import { Group, Row, Title } from "~/workspace/details/Group";
import { KeyGroup } from "~/workspace/details/KeyGroup";
import { LookList } from "~/workspace/details/LookList";
import { MaskGroup } from "~/workspace/details/MaskGroup";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { apply, turnAndSize } from "~/workspace/geometry";
import { type LayerValues, moveLayer, removeLayer, round, setOnLayer } from "~/workspace/patches";
import { frameFromStill, toSpace, useSpaces } from "~/workspace/spaces";
import { useLayerSlip } from "~/workspace/slip";
import { act, useWorkspace } from "~/workspace/store";

const GROUPS = { still: ["Place", "Mix"], pin: ["Pin", "Mix"], beam: ["Beam", "Hung on it", "Mix"] };

export function LayerDetails({ layer }: { layer: Layer }) {
  const { record, edits } = useOpenShot();
  const { data: kinds } = useKinds("layer");
  const { data: assets } = useAssets();
  const shot = record.document;
  const schema = kinds?.find((k) => k.kind === layer.kind)?.schema;
  const set = (label: string, values: LayerValues) =>
    void edits.edit(label, setOnLayer(shot, layer.id, values));
  const move = (by: -1 | 1) => {
    const patch = moveLayer(shot, layer.id, by);
    if (patch) void edits.edit(by < 0 ? `${layer.name} nearer` : `${layer.name} further`, patch);
  };
  const at = shot.stack.findIndex((l) => l.id === layer.id);
  const isClip = layer.kind !== "beam" && assets?.find((a) => a.digest === layer.asset)?.kind === "clip";
  const groups = isClip ? [...GROUPS[layer.kind], "Clip"] : GROUPS[layer.kind];
  const sub =
    layer.kind === "beam"
      ? `Beam, tied in ${layer.anchors.length} places`
      : `${layer.kind === "pin" ? "Pinned" : "Placed"} ${isClip ? "clip" : "still"}, ${layer.width} × ${layer.height}`;

  return (
    <>
      <Title title={layer.name} sub={sub} onRename={(name) => set(`Rename to ${name}`, { name })} />
      {layer.kind === "still" && <StillFollow layer={layer} set={set} />}
      {layer.kind === "pin" && <PinnedTo layer={layer} set={set} />}
      {layer.kind === "beam" && <Hung layer={layer} set={set} />}
      {layer.kind !== "beam" && <SlipRows layer={layer} />}
      {layer.kind !== "beam" && <KeyGroup layer={layer} />}
      <MaskGroup help="A mask cuts it: only what is inside is seen." />
      {schema && (
        <SchemaForm
          schema={schema}
          groups={groups}
          values={layer as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${layer.name}`, { [field]: value })}
        />
      )}
      <LookList
        title="Looks"
        help="Colour, blur, glow, light wrap: on this layer alone."
        looks={layer.looks}
        edit={(label, change) =>
          void edits.edit(label, (latest) => {
            const now = latest.stack.find((l) => l.id === layer.id) ?? layer;
            return setOnLayer(latest, layer.id, { looks: change(now.looks) });
          })
        }
      />
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

type Set = (label: string, values: LayerValues) => void;

function StillFollow({ layer, set }: { layer: StillLayer; set: Set }) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const shot = record.document;

  const retarget = (target: string | null) => {
    // It stays where it is in this frame, and follows (or stays put) from here on.
    const middle = { x: layer.width / 2, y: layer.height / 2 };
    const now = frameFromStill(layer, spaces, frame);
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
