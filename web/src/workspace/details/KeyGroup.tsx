import { useShallow } from "zustand/react/shallow";
import { useQuery } from "@tanstack/react-query";
import { Brush, Eraser, Pipette, X } from "lucide-react";
import { type CutStroke, type KeyedLayer, type PictureKey, answered, api } from "~/api/client";
import { useAssets, useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { Slider } from "~/ui/Slider";
import { mattesOf } from "~/workspace/actions/mattes";
import { useOpenShot } from "~/workspace/context";
import { LayerAhead } from "~/workspace/details/Ahead";
import { Group, Row } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, has } from "~/workspace/kinds";
import { findLayer, setOnLayer } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

/** How the layer's subject is told from what is behind it. */
export function KeyGroup({ layer }: { layer: KeyedLayer }) {
  const { record, edits } = useOpenShot();
  const mattes = has("layer", layer, "footage") ? mattesOf(record.document) : [];
  const set = (label: string, values: object) =>
    void edits.edit(label, (latest) => {
      const now = findLayer(latest, layer.id);
      const old = now && "key" in now ? now.key : layer.key;
      return setOnLayer(latest, layer.id, { key: { ...old, ...values } });
    });
  const choose = (kind: string | null) =>
    void edits.edit(kind ? `Key ${layer.name}` : `No key on ${layer.name}`, (latest) =>
      setOnLayer(latest, layer.id, {
        key: !kind ? null : has("key", { kind }, "matte") ? { kind, motion: mattes.at(-1)!.id } : { kind },
      }),
    );
  return (
    <Group title="Key">
      <KeyRows
        keyed={layer.key}
        whose={layer.name}
        // By a matte only the footage can be cut, and only where there is one.
        leaveOut={mattes.length ? [] : ["matte"]}
        onChoose={choose}
        onSet={set}
      >
        {layer.key?.kind === "cutout" && (
          <Strokes strokes={layer.key.strokes} onChange={(strokes) => set("Strokes", { strokes })} />
        )}
        {layer.key?.kind === "cutout" && <LayerAhead layer={layer.id} what="cut out" />}
        {layer.key?.kind === "screen" && <Quality layer={layer} />}
      </KeyRows>
    </Group>
  );
}

interface KeyRowsProps {
  keyed: PictureKey | null;
  /** Whose key it is: a layer's, or a mask's by its id. */
  whose: string;
  mask?: string;
  /** Traits of the kinds that cannot be chosen. */
  leaveOut: string[];
  onChoose: (kind: string | null) => void;
  onSet: (label: string, values: object) => void;
  children?: React.ReactNode;
}

/** Which key it is, and its settings; `children` lie between the two. */
export function KeyRows({ keyed, whose, mask, leaveOut, onChoose, onSet, children }: KeyRowsProps) {
  const { data: kinds } = useKinds("key");
  const picking = useWorkspace((s) => s.tool.kind === "pick" && s.tool.mask === mask);
  const kind = kinds?.find((k) => k.kind === keyed?.kind);
  const names: Record<string, string> = { none: "Nothing" };
  for (const k of kinds ?? []) if (!leaveOut.some((trait) => has("key", k, trait))) names[k.kind] = k.label;
  const colours = keyed && "colours" in keyed ? keyed.colours : null;
  return (
    <>
      <Row label="Taken off" help="What is taken off the picture, and how it is told apart" wide>
        <Choice
          label={mask ? `Key of ${whose}` : "Key"}
          value={keyed?.kind ?? "none"}
          names={names}
          onChange={(chosen) => onChoose(chosen === "none" ? null : chosen)}
        />
      </Row>
      {keyed && colours && (
        <Row label={keyed.kind === "screen" ? "Its colour" : "Colours"} wide>
          <span className="flex flex-wrap items-center gap-1">
            {colours.map((c, k) => (
              <button
                key={`${c}-${k}`}
                aria-label={`Remove sample ${c}`}
                title={`${c}: click to remove`}
                className="group grid size-6 place-items-center rounded-md border border-black/25"
                style={{ background: c }}
                onClick={() => onSet("Remove a sample", { colours: colours.filter((_, i) => i !== k) })}
              >
                <X className="size-3 text-white opacity-0 mix-blend-difference group-hover:opacity-100 group-focus:opacity-100" />
              </button>
            ))}
            {keyed.kind === "screen" && !colours.length && <span className="mr-1">found by itself</span>}
            <Button
              aria-pressed={picking}
              title="Click on the colour in the picture, or drag over some of it"
              onClick={() => act({ do: "tool", tool: mask ? { kind: "pick", mask } : { kind: "pick" } })}
            >
              <Pipette className="size-3.5" /> Pick
            </Button>
          </span>
        </Row>
      )}
      {keyed?.kind === "difference" && (
        <CleanChoice value={keyed.clean} onChange={(clean) => onSet("Clean plate", { clean })} />
      )}
      {children}
      {keyed && kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, keyed)}
          bare
          values={keyed as unknown as Record<string, unknown>}
          onChange={(field, value, label) => onSet(`${label} of ${whose}'s key`, { [field]: value })}
        />
      )}
    </>
  );
}

/** The strokes of a cut-out: on which frames there are any, and the brush. */
function Strokes({ strokes, onChange }: { strokes: CutStroke[]; onChange: (strokes: CutStroke[]) => void }) {
  const { tool, cutSubject, cutWidth } = useWorkspace(
    useShallow((w) => ({ tool: w.tool.kind, cutSubject: w.cutSubject, cutWidth: w.cutWidth })),
  );
  const take = (subject: boolean) => {
    act({ do: "cut", subject });
    act({ do: "tool", tool: { kind: "cut" } });
  };
  const frames = [...new Set(strokes.map((s) => s.frame))].sort((a, b) => a - b);
  return (
    <>
      <Row label="Strokes" wide>
        <span className="flex flex-wrap gap-1">
          <Button aria-pressed={tool === "cut" && cutSubject} onClick={() => take(true)}>
            <Brush className="size-3.5" /> Subject
          </Button>
          <Button aria-pressed={tool === "cut" && !cutSubject} onClick={() => take(false)}>
            <Eraser className="size-3.5" /> Not it
          </Button>
        </span>
      </Row>
      <Row label="Brush" wide>
        <Slider
          label="Width of the brush"
          value={cutWidth}
          low={4}
          high={80}
          onPreview={(width) => act({ do: "cut", width })}
        />
      </Row>
      <p className="my-1 text-xs text-ink-2">
        {strokes.length
          ? `${strokes.length} ${strokes.length === 1 ? "stroke" : "strokes"} on its ${frames.length === 1 ? "frame" : "frames"} ${frames.join(", ")}. Where the cut slips, go there and draw another.`
          : "Click on the subject in one frame, or draw over it. It is cut there and carried through the clip."}
        {strokes.length > 0 && (
          <button className="ml-1 font-semibold text-tide" onClick={() => onChange(strokes.slice(0, -1))}>
            Take the last away
          </button>
        )}
      </p>
    </>
  );
}

function CleanChoice({ value, onChange }: { value: string | null; onChange: (v: string | null) => void }) {
  const { data: assets } = useAssets();
  const names: Record<string, string> = { none: "Choose one …" };
  for (const a of assets ?? []) if (a.kind === "still") names[a.digest] = a.name;
  return (
    <Row label="Clean plate" help="A still of the set without the subject" wide>
      <Choice
        label="Clean plate"
        value={value ?? "none"}
        names={names}
        onChange={(v) => onChange(v === "none" ? null : v)}
      />
    </Row>
  );
}

const seenByKey = (layer: KeyedLayer) => {
  const { key, masks } = layer;
  if (layer.kind === "plate") return JSON.stringify([key, masks]);
  const { asset, starts, speed, pace, first, last, after, by_keys, shows, between } = layer;
  return JSON.stringify([
    key,
    masks,
    asset,
    starts,
    speed,
    pace,
    first,
    last,
    after,
    by_keys,
    shows,
    between,
  ]);
};

/** How clean the matte is in this frame, as measured. */
function Quality({ layer }: { layer: KeyedLayer }) {
  const { shotId } = useOpenShot();
  const { frame, playing } = useWorkspace(useShallow((w) => ({ frame: w.frame, playing: w.playing })));
  const { data } = useQuery({
    // Only what the key sees: measuring takes its time, and the picture waits for it.
    queryKey: ["matte", shotId, layer.id, seenByKey(layer), frame],
    queryFn: () =>
      answered(
        api.GET("/api/shots/{shot_id}/layers/{layer_id}/matte", {
          params: { path: { shot_id: shotId, layer_id: layer.id }, query: { frame } },
        }),
      ),
    enabled: !playing,
    placeholderData: (before) => before,
  });
  if (!data) return null;
  const noisy = data.noise > 0.04;
  const thin = data.holes > 0.01;
  return (
    <p className="my-1 rounded-md bg-paper px-2 py-1 text-xs text-ink-2" data-testid="matte-quality">
      <span className={`block ${noisy ? "text-brick" : ""}`}>
        Cloth {noisy ? "noisy: clip black" : "clean"}, noise{" "}
        <span className="num">{(100 * data.noise).toFixed(1)} %</span>
      </span>
      <span className={`block ${thin ? "text-brick" : ""}`}>
        Subject {thin ? "thin in places: clip white" : "solid"},{" "}
        <span className="num">{(100 * (1 - data.holes)).toFixed(1)} %</span> of it is solid
      </span>
    </p>
  );
}
