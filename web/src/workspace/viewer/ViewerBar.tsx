import { ToggleGroup } from "radix-ui";
import { Button } from "~/ui/Button";
import { useChosenMotion, useOpenShot } from "~/workspace/context";
import { act, useWorkspace, type View } from "~/workspace/store";

const VIEWS: { id: View; label: string }[] = [
  { id: "final", label: "Final" },
  { id: "plate", label: "Plate" },
  { id: "matte", label: "Matte" },
];

/** Tools for the chosen card on the left, what is shown on the right. */
export function ViewerBar() {
  const { record } = useOpenShot();
  const { tool, view, viewport, plonking } = useWorkspace();
  const motion = useChosenMotion();
  const ready = record.document.footage !== null;
  return (
    <div role="toolbar" aria-label="Tools" className="flex items-center gap-1.5 px-2.5">
      <Button
        look="well"
        aria-pressed={tool === "handle"}
        disabled={!ready}
        onClick={() => act({ do: "tool", tool: "handle" })}
      >
        Handle
      </Button>
      <Button
        look="well"
        aria-pressed={tool === "add-point"}
        disabled={!ready}
        onClick={() => act({ do: "tool", tool: "add-point" })}
      >
        {motion ? "Another point" : "Set a point"}
      </Button>
      <Button
        look="well"
        aria-pressed={tool === "plonk"}
        disabled={!ready}
        onClick={() => act({ do: "open", what: "shelf", on: true })}
      >
        Plonk
      </Button>
      <span className="truncate text-xs text-on-well-2">
        {tool === "add-point" && "Click on a small, clear detail"}
        {tool === "plonk" && plonking && "Click where it should sit"}
      </span>
      <span className="flex-1" />
      {viewport.zoom !== null && (
        <Button look="well" onClick={() => act({ do: "viewport", viewport: { zoom: null, x: 0, y: 0 } })}>
          Fit <span className="num text-on-well-2">{Math.round(viewport.zoom * 100)} %</span>
        </Button>
      )}
      <ToggleGroup.Root
        type="single"
        value={view}
        aria-label="What is shown"
        onValueChange={(v) => v && act({ do: "view", view: v as View })}
        className="flex rounded-lg bg-well-2 p-0.5"
      >
        {VIEWS.map((v) => (
          <ToggleGroup.Item
            key={v.id}
            value={v.id}
            disabled={!ready}
            className="rounded-md px-2.5 py-1 text-xs text-on-well data-[state=on]:bg-[#f1eee7] data-[state=on]:font-semibold data-[state=on]:text-[#22262b]"
          >
            {v.label}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
    </div>
  );
}
