import { useShallow } from "zustand/react/shallow";
import { useState } from "react";
import { type Layer, type ShotRecord, type Asked, api } from "~/api/client";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { complain } from "~/ui/Notices";
import { useLineUp } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { FINAL, act, useWorkspace } from "~/workspace/store";

/** Make it look as if filmed with the plate, line its clip up with the footage, and look at it by itself. */
export function MatchGroup({ layer, isClip }: { layer: Layer; isClip: boolean }) {
  const { shotId, record, edits } = useOpenShot();
  const { frame, alone, before } = useWorkspace(
    useShallow((w) => ({
      frame: w.frame,
      alone: w.shown.kind === "alone" ? w.shown : null,
      before: w.before,
    })),
  );
  const [busy, setBusy] = useState<string | null>(null);
  const [says, setSays] = useState<string[] | null>(null);
  const params = { path: { shot_id: shotId, layer_id: layer.id } };
  const ask = async <T extends { shot: ShotRecord }>(
    what: string,
    asked: () => Asked<T>,
  ): Promise<T | null> => {
    setBusy(what);
    const answer = await edits.ask(asked, (a) => a.shot);
    setBusy(null);
    return answer;
  };
  const match = async () => {
    const picture = record.picture;
    const answer = await ask("match", () =>
      api.POST("/api/shots/{shot_id}/layers/{layer_id}/match", { params, body: { frame } }),
    );
    if (!answer) return;
    setSays(answer.says);
    act({ do: "before", before: { picture, on: false } });
  };
  const lineUp = useLineUp();
  const lining = useLive((s) =>
    Object.values(s.jobs).some(
      (j) =>
        j.kind === "lineup" && j.layer === layer.id && ["queued", "running", "stopping"].includes(j.state),
    ),
  );
  const matched = layer.looks.some((l) => l.id.startsWith("match-"));
  const own = alone?.layer === layer.id ? alone.over : null;
  const [behind, setBehind] = useState(own?.startsWith("over-") ? `#${own.slice(5)}` : "#404040");
  const show = (over: string | null) =>
    act({ do: "show", shown: over === null ? FINAL : { kind: "alone", layer: layer.id, over } });
  const onColour = `over-${behind.slice(1)}`;
  return (
    <>
      <Group title="By itself">
        <span className="flex gap-1">
          <Button aria-pressed={own === "checker"} onClick={() => show(own === "checker" ? null : "checker")}>
            On checker
          </Button>
          <span className="flex items-center gap-1">
            <Button aria-pressed={own === onColour} onClick={() => show(own === onColour ? null : onColour)}>
              On colour
            </Button>
            <input
              type="color"
              aria-label="Colour behind it"
              title="The colour to look at it on"
              value={behind}
              className="h-7 w-7 cursor-pointer rounded-md border border-line bg-transparent p-0.5"
              onChange={(e) => {
                setBehind(e.target.value);
                show(`over-${e.target.value.slice(1)}`);
              }}
            />
          </span>
          <Button
            title="Look closely at its softest edge"
            onClick={() => void closeUp(shotId, layer.id, frame)}
          >
            Edge
          </Button>
        </span>
      </Group>
      <Group title="Match">
        <Button disabled={busy !== null} onClick={() => void match()}>
          {busy === "match" ? "Measuring …" : matched ? "Match again here" : "Match to plate"}
        </Button>
        {matched && before && (
          <Button
            className="ml-2"
            aria-pressed={before.on}
            title="Flick between before and after (A)"
            onClick={() => act({ do: "before", before: { ...before, on: !before.on } })}
          >
            Before
          </Button>
        )}
        <p className="mt-1 text-xs text-ink-2">
          {says
            ? `Measured: ${says.join("; ")}.`
            : `${layer.kind === "model" ? "Edges" : "Light, edges"} and grain measured on the plate round it; what comes out are looks that you can change.`}
        </p>
        {isClip && (
          <>
            <p className="mt-2 mb-1 text-xs text-ink-2">Taken at the same time as the footage? Line it up:</p>
            <span className="flex gap-2">
              <Button disabled={lining} onClick={() => void lineUp(layer.id, "sound")}>
                By sound
              </Button>
              <Button disabled={lining} onClick={() => void lineUp(layer.id, "picture")}>
                By picture
              </Button>
            </span>
          </>
        )}
      </Group>
    </>
  );
}

/** Go close to where the layer's edge is softest. */
async function closeUp(shot: string, layer: string, frame: number) {
  const answer = await fetch(`/api/shots/${shot}/layers/${layer}/edge?frame=${frame}`);
  const spot = answer.ok ? ((await answer.json()) as { x: number; y: number } | null) : null;
  const well = document.querySelector("[data-testid=well]");
  if (!spot || !well) {
    complain("It has no soft edge in this frame.");
    return;
  }
  const zoom = 4;
  act({
    do: "viewport",
    viewport: { zoom, x: well.clientWidth / 2 - spot.x * zoom, y: well.clientHeight / 2 - spot.y * zoom },
  });
}
