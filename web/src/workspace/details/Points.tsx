import type { Look } from "~/api/client";
import { has } from "~/workspace/kinds";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

const POINTS = ["black", "grey", "white"] as const;

/** Black, grey and white points that are picked on the picture: of what the look is laid on, and of the plate it is to be like. */
export function Points({ look, layer }: { look: Look; layer: string | null }) {
  const picking = useWorkspace((w) => (w.tool.kind === "point" ? w.tool.picking : null));
  const points = POINTS.filter((point) => has("look", look, `picks-${point}`));
  if (!points.length) return null;
  const of = layer === null ? (["it"] as const) : (["it", "plate"] as const);
  return (
    <div className="my-1 space-y-1" role="group" aria-label="Points">
      {of.map((from) => (
        <p key={from} className="flex items-center gap-3 text-xs">
          <span className="flex-1 text-ink-2">
            {layer === null ? "Pick on the picture" : from === "it" ? "Pick on it" : "As the plate’s"}
          </span>
          {points.map((point) => {
            const on =
              picking?.look === look.id &&
              picking.layer === layer &&
              picking.point === point &&
              picking.of === from;
            return (
              <button
                key={point}
                className="font-semibold text-saffron aria-pressed:underline"
                aria-pressed={on}
                title={
                  from === "it"
                    ? `Click on what should be ${point}`
                    : `Click on what is ${point} in the footage: its own becomes like it`
                }
                onClick={() =>
                  act(
                    on
                      ? { do: "tool", tool: HANDLE }
                      : {
                          do: "tool",
                          tool: { kind: "point", picking: { layer, look: look.id, point, of: from } },
                        },
                  )
                }
              >
                {point[0]!.toUpperCase() + point.slice(1)}
              </button>
            );
          })}
        </p>
      ))}
    </div>
  );
}
