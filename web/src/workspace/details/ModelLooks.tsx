import { Eye, EyeOff, X } from "lucide-react";
import type { MeshLayer } from "~/api/client";
import { useModel } from "~/api/queries";
import { Choice } from "~/ui/Choice";
import { Group, Row } from "~/workspace/details/Group";
import { kindOf } from "~/workspace/kinds";
import type { LayerValues } from "~/workspace/patches";

type Set = (label: string, values: LayerValues) => void;
type PartLook = MeshLayer["parts"][number];

const STILL = "still";
const ALL = "";
/** What a colour is at first, where none was chosen yet. */
const FIRST_PAINT = "#b9a98f";
const plain = (material: string): PartLook => ({ material, shown: true, paint: null, surface: "own" });

/** Which of the movements in its file a model goes through. */
export function MovementChoice({ layer, set }: { layer: MeshLayer; set: Set }) {
  const { data } = useModel(layer.asset);
  const clips = data?.clips ?? [];
  if (!clips.length) return null;
  const names: Record<string, string> = { [STILL]: "Stands still" };
  clips.forEach((clip, k) => (names[k] = `${clip.name}, ${clip.seconds.toFixed(1)} s`));
  return (
    <Row label="Movement" help="As its file describes it." wide>
      <Choice
        label="Movement of the model"
        value={layer.moving && layer.clip < clips.length ? String(layer.clip) : STILL}
        names={names}
        onChange={(v) =>
          v === STILL
            ? set(`${layer.name} stands still`, { moving: false })
            : set(`${layer.name}: ${clips[Number(v)]!.name}`, {
                moving: true,
                clip: Number(v),
                clip_seconds: clips[Number(v)]!.seconds,
              })
        }
      />
    </Row>
  );
}

/** Every material of a model: seen or not, painted, of another surface. */
export function PartsGroup({ layer, set }: { layer: MeshLayer; set: Set }) {
  const { data, isError } = useModel(layer.asset);
  const materials = data?.materials ?? [];
  const change = (label: string, material: string, values: Partial<PartLook>) => {
    const now = { ...(layer.parts.find((p) => p.material === material) ?? plain(material)), ...values };
    const rest = layer.parts.filter((p) => p.material !== material);
    const same = now.shown && !now.paint && now.surface === "own";
    set(label, { parts: same ? rest : [...rest, now] });
  };
  const rows = materials.length > 1 ? [ALL, ...materials] : [ALL];
  return (
    <Group
      title="Made of"
      side={
        layer.parts.length > 0 && (
          <button
            className="font-semibold text-tide"
            onClick={() => set(`${layer.name} as in its file`, { parts: [] })}
          >
            All as in its file
          </button>
        )
      }
    >
      {isError && <p className="text-xs text-brick">Its file could not be read for what it is made of.</p>}
      <ul className="max-h-64 overflow-y-auto">
        {rows.map((material) => (
          <PartRow
            key={material}
            name={material || "All of it"}
            look={layer.parts.find((p) => p.material === material) ?? plain(material)}
            whole={material === ALL}
            change={(label, values) => change(`${label}: ${layer.name}`, material, values)}
          />
        ))}
      </ul>
    </Group>
  );
}

function PartRow({
  name,
  look,
  whole,
  change,
}: {
  name: string;
  look: PartLook;
  whole: boolean;
  change: (label: string, values: Partial<PartLook>) => void;
}) {
  const Icon = look.shown ? Eye : EyeOff;
  return (
    <li className="flex h-8 items-center gap-1.5 text-xs">
      {whole ? (
        <span className="w-6" />
      ) : (
        <button
          aria-label={look.shown ? `Hide ${name}` : `Show ${name}`}
          aria-pressed={look.shown}
          className="grid size-6 shrink-0 place-items-center text-ink-2 hover:text-ink"
          onClick={() => change(look.shown ? `Without ${name}` : `${name} again`, { shown: !look.shown })}
        >
          <Icon className="size-3.5" aria-hidden />
        </button>
      )}
      <span className={`min-w-0 flex-1 truncate ${look.shown ? "" : "text-ink-3 line-through"}`} title={name}>
        {name}
      </span>
      {look.paint ? (
        <>
          <input
            type="color"
            aria-label={`Colour of ${name}`}
            className="h-6 w-8 shrink-0 cursor-pointer rounded border border-line bg-raise p-0.5"
            key={look.paint}
            defaultValue={look.paint}
            onBlur={(e) =>
              e.target.value !== look.paint && change(`Paint ${name}`, { paint: e.target.value })
            }
            onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          />
          <button
            aria-label={`${name} in its own colour`}
            title="Its own colour again"
            className="text-ink-2 hover:text-ink"
            onClick={() => change(`${name} in its own colour`, { paint: null })}
          >
            <X className="size-3.5" aria-hidden />
          </button>
        </>
      ) : (
        <button
          className="shrink-0 font-semibold text-tide"
          aria-label={`Paint ${name}`}
          onClick={() => change(`Paint ${name}`, { paint: FIRST_PAINT })}
        >
          Paint
        </button>
      )}
      {!whole && (
        <span className="w-[92px] shrink-0">
          <Choice
            label={`Surface of ${name}`}
            value={look.surface}
            names={surfaces()}
            onChange={(v) => change(`Surface of ${name}`, { surface: v as PartLook["surface"] })}
          />
        </span>
      )}
    </li>
  );
}

/** The surfaces that there are, as the form of the whole model names them. */
const surfaces = (): Record<string, string> => ({
  ...kindOf("layer", "model")?.schema.properties?.["surface"]?.["x-plonket"]?.names,
  own: "Its own",
});
