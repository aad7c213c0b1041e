import { ChevronDown, ChevronRight } from "lucide-react";
import { useState } from "react";
import type { Layer } from "~/api/client";
import { FRONTS, useBringForward } from "~/workspace/actions/front";
import { STANDS, useAddLayer } from "~/workspace/actions/plonk";
import { useOpenShot } from "~/workspace/context";
import { wholePicture } from "~/workspace/patches";
import { LayerCard } from "~/workspace/runsheet/LayerCard";
import { VerbMenu } from "~/workspace/runsheet/VerbMenu";
import { solves } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";

/** What can be put into the stack. */
export function AddMenu({ disabled }: { disabled: boolean }) {
  const { record } = useOpenShot();
  const add = useAddLayer();
  const forward = useBringForward();
  const shot = record.document;
  const solved = shot.motions.some((m) => solves(m) && m.measurement);
  const [w, h] = [shot.footage?.width ?? 1280, shot.footage?.height ?? 720];
  const rows = [
    {
      label: "From the shelf …",
      hint: "stills, clips, sparks, smoke, light (P)",
      run: () => act({ do: "open", what: "shelf", on: true }),
    },
    ...(solved
      ? [
          {
            label: "Lamp",
            hint: "a soft light on models; click where it stands",
            run: () => act({ do: "tool", tool: { kind: "plonk", what: `${STANDS}lamp`, as: "still" } }),
          },
          {
            label: "What is really there",
            hint: "a form that hides models and takes their shadows",
            run: () => act({ do: "tool", tool: { kind: "plonk", what: `${STANDS}holdout`, as: "still" } }),
          },
          {
            label: "Projected plate",
            hint: "other frames' picture laid on a form",
            run: () => act({ do: "tool", tool: { kind: "plonk", what: `${STANDS}projected`, as: "still" } }),
          },
          {
            label: "Breaking floor or wall",
            hint: "what was filmed cracks, and pieces fall; click where",
            run: () => act({ do: "tool", tool: { kind: "plonk", what: `${STANDS}breaking`, as: "still" } }),
          },
          {
            label: "Relief",
            hint: "a floor or wall pushed out or in, its picture with it",
            run: () => act({ do: "tool", tool: { kind: "plonk", what: `${STANDS}relief`, as: "still" } }),
          },
        ]
      : []),
    ...FRONTS.map((one) => ({ label: one.label, hint: one.hint, run: () => void forward(one) })),
    { label: "Wash", hint: "looks on everything below", run: () => void add("Wash", { kind: "wash" }) },
    { label: "Colour", hint: "one colour over everything", run: () => void add("Colour", { kind: "fill" }) },
    {
      label: "Gradient",
      hint: "from one colour to another",
      run: () =>
        void add("Gradient", {
          kind: "fill",
          course: "straight",
          cover: 85,
          other_cover: 0,
          from_x: w / 2,
          from_y: h * 0.92,
          to_x: w / 2,
          to_y: h * 0.45,
        }),
    },
    ...shot.parcels.map((p) => ({
      label: `${p.name}, once more`,
      hint: "the same parcel shown again",
      run: () => void add(p.name, { kind: "parcel", parcel: p.id, ...wholePicture(shot) }),
    })),
  ];
  return <VerbMenu verb="Plonk" disabled={disabled} rows={rows} />;
}

/** Layers nearest first; drag one to put it elsewhere, open a parcel to see what is in it. */
export function StackList({ layers, deep = false }: { layers: Layer[]; deep?: boolean }) {
  const { record, edits } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  const [open, setOpen] = useState<string[]>([]);
  const [dragged, setDragged] = useState<string | null>(null);
  const [over, setOver] = useState<{ id: string; after: boolean } | null>(null);
  const drop = () => {
    if (dragged && over) {
      const at = layers.findIndex((l) => l.id === over.id);
      const before = over.after ? (layers[at + 1]?.id ?? null) : over.id;
      const next = layers[layers.findIndex((l) => l.id === dragged) + 1]?.id ?? null;
      if (before !== dragged && before !== next) void edits.operate({ do: "move", thing: dragged, before });
    }
    setDragged(null);
    setOver(null);
  };
  return (
    <ul
      aria-label={deep ? "In the parcel" : "Stack"}
      className={deep ? "mb-1 ml-3 border-l-2 border-line pl-2" : ""}
    >
      {layers.map((layer) => {
        const parcel =
          layer.kind === "parcel" ? record.document.parcels.find((p) => p.id === layer.parcel) : undefined;
        const shown =
          open.includes(layer.id) || parcel?.stack.some((l) => chosen.kind === "layer" && l.id === chosen.id);
        const mark = over?.id === layer.id && dragged !== layer.id ? (over.after ? "after" : "before") : null;
        return (
          <li
            key={layer.id}
            draggable
            data-card={layer.id}
            className={`relative ${dragged === layer.id ? "opacity-50" : ""}`}
            onDragStart={(e) => {
              e.stopPropagation();
              e.dataTransfer.effectAllowed = "move";
              e.dataTransfer.setData("text/plain", layer.name);
              setDragged(layer.id);
            }}
            onDragOver={(e) => {
              if (!dragged) return;
              e.preventDefault();
              e.stopPropagation();
              const box = e.currentTarget.getBoundingClientRect();
              setOver({ id: layer.id, after: e.clientY > box.top + box.height / 2 });
            }}
            onDrop={(e) => {
              e.preventDefault();
              e.stopPropagation();
              drop();
            }}
            onDragEnd={() => {
              setDragged(null);
              setOver(null);
            }}
          >
            {mark && (
              <i
                aria-hidden
                className={`pointer-events-none absolute inset-x-0 z-10 h-[3px] rounded bg-tide ${mark === "after" ? "-bottom-0.5" : "-top-1"}`}
              />
            )}
            {parcel && (
              <button
                aria-label={`${shown ? "Close" : "Open"} ${layer.name}`}
                aria-expanded={Boolean(shown)}
                className="absolute top-2 right-8 z-10 rounded p-0.5 text-ink-2 hover:text-ink"
                onClick={() => setOpen(shown ? open.filter((id) => id !== layer.id) : [...open, layer.id])}
              >
                {shown ? <ChevronDown className="size-4" /> : <ChevronRight className="size-4" />}
              </button>
            )}
            <LayerCard layer={layer} on={chosen.kind === "layer" && chosen.id === layer.id} />
            {parcel && shown && <StackList layers={parcel.stack} deep />}
          </li>
        );
      })}
    </ul>
  );
}
