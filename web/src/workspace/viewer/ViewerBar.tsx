import { useShallow } from "zustand/react/shallow";
import { ToggleGroup } from "radix-ui";
import { Button } from "~/ui/Button";
import { useChosenMotion, useOpenShot } from "~/workspace/context";
import type { Motion } from "~/api/client";
import {
  HANDLE,
  type OutlineFor,
  type OutlineShape,
  type Tool,
  type View,
  act,
  heldOf,
  outlining,
  useWorkspace,
  viewOf,
} from "~/workspace/store";

const VIEWS: { id: View; label: string; title: string }[] = [
  { id: "final", label: "Final", title: "The finished picture" },
  { id: "plate", label: "Plate", title: "The footage as it is treated, without the stack" },
  { id: "matte", label: "Matte", title: "What the chosen layer covers; with none chosen, the whole stack" },
];

const TOOLS: { tool: Tool; title: string; label: (motion: Motion | null) => string }[] = [
  {
    tool: { kind: "add-point" },
    title: "Set a point on a small, clear detail (N)",
    label: (m) => (m?.kind === "points" ? "Another point" : "Point"),
  },
  {
    tool: outlining(),
    title: "Outline a flat surface (R)",
    label: (m) => (m?.kind === "plane" ? "Another region" : "Surface"),
  },
  { tool: { kind: "perch" }, title: "A place for things to sit on (B)", label: () => "Perch" },
  { tool: { kind: "beam" }, title: "A line between two places (L)", label: () => "Beam" },
];

const HINTS: Record<Tool["kind"], string> = {
  handle: "",
  "add-point": "Click on a small, clear detail",
  outline: "Drag a box, or click round it; Enter closes",
  perch: "Click where things should sit",
  beam: "Click the first knot, then the second",
  plonk: "Click where it should sit",
  pick: "Click on the colour, or drag over some of it",
  cut: "Click on the subject, or draw over it; with Alt on what is not. Esc when done",
  "pick-out":
    "Click on a person or a thing, or drag a box round it; with Alt on what it is not. Esc when done",
  middle: "Click on what should lie in the middle",
  tug: "Click on the form where a tug should hold it",
  pivot: "Click the place it turns about",
  point: "Click on the place to pick",
  shadow: "Click into a shadow of the footage, not far from its edge",
};

const OUTLINE_HINTS: Record<OutlineFor, string> = {
  motion: HINTS.outline,
  mend: "Draw round what should go: drag a box, or click round it; Enter closes",
  clean: "Draw round what this frame should show: drag a box, or click round it; Enter closes",
  suggest: "Draw round what should go: drag a box, or click round it; Enter closes",
  freeze: "Draw round what should stand still as in this frame: drag a box, or click round it; Enter closes",
  mask: "Drag a box, or click round it; Enter closes",
};
const SHAPE_HINTS: Record<Exclude<OutlineShape, "free">, string> = {
  ellipse: "Drag a box round the ellipse",
  graded: "Drag from where it is full to where it is gone",
};

function hintOf(tool: Tool): string {
  if (tool.kind !== "outline") return HINTS[tool.kind];
  return tool.shape === "free" ? OUTLINE_HINTS[tool.for] : SHAPE_HINTS[tool.shape];
}

/** Tools for the chosen card on the left, what is shown on the right. */
export function ViewerBar() {
  const { record } = useOpenShot();
  const { tool, shown, viewport, scopes } = useWorkspace(
    useShallow((w) => ({
      scopes: w.scopesOpen,
      tool: w.tool,
      shown: w.shown,
      viewport: w.viewport,
    })),
  );
  const motion = useChosenMotion();
  const ready = record.document.footage !== null;
  return (
    <div role="toolbar" aria-label="Tools" className="flex min-w-0 items-center gap-0.5 px-2">
      <Button
        look="well"
        aria-pressed={tool.kind === "handle"}
        disabled={!ready}
        onClick={() => act({ do: "tool", tool: HANDLE })}
      >
        Handle
      </Button>
      {TOOLS.map((t) => {
        const label = t.label(motion);
        return (
          <Button
            key={t.tool.kind}
            look="well"
            aria-pressed={tool.kind === t.tool.kind}
            disabled={!ready}
            title={t.title}
            onClick={() => act({ do: "tool", tool: t.tool })}
          >
            {label}
          </Button>
        );
      })}
      <Button
        look="well"
        aria-pressed={tool.kind === "plonk"}
        disabled={!ready}
        onClick={() => act({ do: "open", what: "shelf", on: true })}
      >
        Plonk
      </Button>
      <span className="ml-1 min-w-0 truncate text-xs text-on-well-2">{hintOf(tool)}</span>
      <span className="flex-1" />
      {viewport.zoom !== null && (
        <Button look="well" onClick={() => act({ do: "viewport", viewport: { zoom: null, x: 0, y: 0 } })}>
          Fit <span className="num text-on-well-2">{Math.round(viewport.zoom * 100)} %</span>
        </Button>
      )}
      <Button
        look="well"
        aria-pressed={scopes}
        disabled={!ready}
        title="Waveform, parade, vectors and histogram of what is shown (G)"
        onClick={() => act({ do: "open", what: "scopes", on: !scopes })}
      >
        Scopes
      </Button>
      <ToggleGroup.Root
        type="single"
        value={heldOf(shown) ? "" : viewOf(shown)}
        aria-label="What is shown"
        onValueChange={(v) => v && act({ do: "show", shown: { kind: v as View } })}
        className="flex rounded-lg bg-well-2 p-0.5"
      >
        {VIEWS.map((v) => (
          <ToggleGroup.Item
            key={v.id}
            value={v.id}
            disabled={!ready}
            title={v.title}
            className="rounded-md px-2.5 py-1 text-xs text-on-well data-[state=on]:bg-(--on-picture) data-[state=on]:font-semibold data-[state=on]:text-(--dark-on-picture)"
          >
            {v.label}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
    </div>
  );
}
