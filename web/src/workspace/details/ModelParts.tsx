import { useShallow } from "zustand/react/shallow";
import type { FilmedLayer, MeshLayer } from "~/api/client";
import { Choice } from "~/ui/Choice";
import { filmedIn, roomOf, usePivot } from "~/workspace/actions/models";
import { useOpenShot } from "~/workspace/context";
import { isFilmed } from "~/workspace/kinds";
import { Group, Row } from "~/workspace/details/Group";
import { allLayers, type LayerValues, lightOf } from "~/workspace/patches";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

const OWN = "own";

/** Whose sun and sky light something: its own, or those of something else in the room. */
export function LightFrom({
  layer,
  set,
}: {
  layer: FilmedLayer;
  set: (label: string, values: LayerValues) => void;
}) {
  const { record } = useOpenShot();
  const others = filmedIn(record.document, roomOf(record.document, layer.follow.target)).filter(
    (m) => m.id !== layer.id,
  );
  const from = others.find((m) => m.id === layer.lit_like);
  if (!others.length) return null;
  const names = { [OWN]: "Its own, as below", ...Object.fromEntries(others.map((m) => [m.id, m.name])) };
  return (
    <Group title="Sun and sky">
      <Row label="As of" wide>
        <Choice
          label="Whose sun and sky light it"
          value={from?.id ?? OWN}
          names={names}
          onChange={(v) =>
            set(`Light ${layer.name}`, {
              // On its own again it begins with what it had.
              ...(v === OWN && from ? lightOf(from) : {}),
              lit_like: v === OWN ? null : v,
            })
          }
        />
      </Row>
      {from && (
        <p className="text-xs text-ink-2">
          One room has one sun: change it on{" "}
          <button
            className="font-semibold text-tide"
            onClick={() => act({ do: "choose", chosen: { kind: "layer", id: from.id } })}
          >
            {from.name}
          </button>
          .
        </p>
      )}
    </Group>
  );
}

/** Whether another model's light is taken: its own settings have no say then. */
export function useLitByOther(layer: { kind: string; id: string; lit_like?: string | null }) {
  const { record } = useOpenShot();
  return Boolean(
    layer.lit_like && allLayers(record.document).some((l) => l.id === layer.lit_like && isFilmed(l)),
  );
}

const UNITS: Record<string, number> = { m: 1, cm: 0.01, mm: 0.001, in: 0.0254, ft: 0.3048 };
const UNIT_NAMES = {
  own: "As tall as below",
  m: "True to its file, in metres",
  cm: "True to its file, in centimetres",
  mm: "True to its file, in millimetres",
  in: "True to its file, in inches",
  ft: "True to its file, in feet",
};

/** As large as its file says, in the unit that it is made in; else as tall as wanted. */
export function TrueSize({
  layer,
  set,
}: {
  layer: MeshLayer;
  set: (label: string, values: LayerValues) => void;
}) {
  const tall = typeof layer.tall === "number" ? layer.tall : null;
  const of = (unit: number) => Math.round(layer.extent[1] * unit * 1e4) / 1e4;
  const unit =
    Object.keys(UNITS).find((u) => tall !== null && Math.abs(of(UNITS[u]!) - tall) < 5e-5) ?? "own";
  return (
    <Row label="Size" wide>
      <Choice
        label="Size of its file"
        value={unit}
        names={UNIT_NAMES}
        onChange={(u) => {
          if (u in UNITS && of(UNITS[u]!) >= 1e-4) set(`True size of ${layer.name}`, { tall: of(UNITS[u]!) });
        }}
      />
    </Row>
  );
}

/** Where a model stands on its spot and turns. */
export function Pivot({ layer }: { layer: MeshLayer }) {
  const { frame, tool } = useWorkspace(useShallow((w) => ({ frame: w.frame, tool: w.tool.kind })));
  const pivot = usePivot();
  const picked = layer.pivot.some((v) => v !== 0);
  return (
    <Row
      label="Pivot"
      wide
      help="The place on it that stands on the spot, and about which it turns and grows."
    >
      <span className="flex items-center justify-end gap-2 text-xs">
        <span className="text-ink-2" data-testid="pivot">
          {picked ? "Picked" : "Bottom’s middle"}
        </span>
        <button
          className="font-semibold text-saffron"
          aria-pressed={tool === "pivot"}
          onClick={() => act({ do: "tool", tool: tool === "pivot" ? HANDLE : { kind: "pivot" } })}
        >
          Pick
        </button>
        {picked && (
          <button
            className="font-semibold text-tide"
            title="Stand it on its bottom’s middle again"
            onClick={() => void pivot(layer.id, frame, null)}
          >
            Reset
          </button>
        )}
      </span>
    </Row>
  );
}
