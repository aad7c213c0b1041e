import { useState } from "react";
import { useShallow } from "zustand/react/shallow";
import { type Layer, type ShotRecord, type Asked, api } from "~/api/client";
import { Button } from "~/ui/Button";
import { roomOf } from "~/workspace/actions/models";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { has } from "~/workspace/kinds";
import { HANDLE, act, useWorkspace } from "~/workspace/store";

interface Lit {
  shot: ShotRecord;
  says: string;
}

/** The light of the set, as the footage tells it: taken by what stands there, by its shadow, and as a light map. */
export function SetLightGroup({ layer, target }: { layer: Layer; target: string | null }) {
  const { record, edits, shotId } = useOpenShot();
  const [busy, setBusy] = useState<string | null>(null);
  const [says, setSays] = useState<string | null>(null);
  const { frame, tool } = useWorkspace(useShallow((w) => ({ frame: w.frame, tool: w.tool.kind })));
  const room = roomOf(record.document, target) ?? target;
  const solved = record.document.motions.some((m) => m.id === room && m.measurement);
  const isModel = has("layer", layer, "filmed");
  const take = async (what: string, asked: () => Asked<Lit>) => {
    setBusy(what);
    const answer = await edits.ask(asked, (a) => a.shot);
    setBusy(null);
    if (answer) setSays(answer.says);
  };
  if (!room || !solved) return null;
  return (
    <Group title="Light of the set">
      <span className="flex flex-wrap gap-1">
        <Button
          disabled={busy !== null}
          title="Where the light comes from, how soft it is and its colours, as the footage tells"
          onClick={() =>
            void take("light", () =>
              api.POST("/api/shots/{shot_id}/layers/{layer_id}/light", {
                params: { path: { shot_id: shotId, layer_id: layer.id } },
                body: { frame },
              }),
            )
          }
        >
          {busy === "light" ? "Looking …" : "Light it as the set"}
        </Button>
        <Button
          disabled={busy !== null}
          aria-pressed={tool === "shadow"}
          title="Click into a shadow of the footage: its own becomes as deep"
          onClick={() => act({ do: "tool", tool: tool === "shadow" ? HANDLE : { kind: "shadow" } })}
        >
          Point at a shadow
        </Button>
        {isModel && (
          <Button
            disabled={busy !== null}
            title="What is seen of the set, continued to all sides: it is mirrored in what shines"
            onClick={() =>
              void take("map", () =>
                api.POST("/api/shots/{shot_id}/motions/{motion_id}/light-map", {
                  params: { path: { shot_id: shotId, motion_id: room! } },
                }),
              )
            }
          >
            {busy === "map" ? "Growing …" : "Light map from the footage"}
          </Button>
        )}
      </span>
      <p className="mt-1 text-xs text-ink-2" data-testid="set-light">
        {says ??
          (isModel
            ? "The footage tells where its light comes from. What comes out are the settings below."
            : "The footage tells where its light comes from. What comes out is a shadow at its foot, among the looks.")}
      </p>
    </Group>
  );
}
