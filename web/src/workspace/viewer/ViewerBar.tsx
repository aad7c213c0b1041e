import { useShallow } from "zustand/react/shallow";
import { ToggleGroup } from "radix-ui";
import { Button } from "~/ui/Button";
import { useChosenMotion, useOpenShot } from "~/workspace/context";
import { HANDLE, type View, act, heldOf, useWorkspace, viewOf } from "~/workspace/store";
import { hintOf, READY } from "~/workspace/tools";

const VIEWS: { id: View; label: string; title: string }[] = [
  { id: "final", label: "Final", title: "The finished picture" },
  { id: "plate", label: "Plate", title: "The footage as it is treated, without the stack" },
  { id: "matte", label: "Matte", title: "What the chosen layer covers; with none chosen, the whole stack" },
];

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
      {READY.map((t) => {
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
