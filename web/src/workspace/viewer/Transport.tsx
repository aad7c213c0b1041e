import { useShallow } from "zustand/react/shallow";
import { Pause, Play, StepBack, StepForward } from "lucide-react";
import { Button } from "~/ui/Button";
import { useHeldCandidate, useOpenShot } from "~/workspace/context";
import { act, heldOf, useWorkspace } from "~/workspace/store";
import { ComparePanel } from "~/workspace/viewer/ComparePanel";
import { fpsOf } from "~/workspace/viewer/rates";
import { holding, flickEnds, otherEnd, stepBy } from "~/workspace/keys";

/** Below the picture: where we are, play, and the checking views. */
export function Transport({ rate, percent }: { rate: number; percent: number }) {
  const { record, filmed } = useOpenShot();
  const { frame, playing, compare, flick, shown, onion } = useWorkspace(
    useShallow((w) => ({
      frame: w.frame,
      playing: w.playing,
      compare: w.compare,
      flick: w.flick,
      shown: w.shown,
      onion: w.onion,
    })),
  );
  const held = heldOf(shown);
  const holdable = useHeldCandidate();
  const footage = record.document.footage;
  if (!footage) return <div />;
  const fps = fpsOf(footage);
  const whole = Math.floor(frame / fps + 1e-6);
  const rest = Math.round(frame - whole * fps);
  const pad = (v: number) => String(v).padStart(2, "0");
  return (
    <div className="flex min-w-0 items-center justify-center gap-2 px-2 text-on-well">
      <span
        className="w-14 text-right font-mono text-[17px] text-white tabular-nums"
        data-testid="frame-number"
      >
        {frame}
      </span>
      <span className="num text-on-well-2">
        {pad(Math.floor(whole / 60))}:{pad(whole % 60)}:{pad(Math.max(0, rest))}
      </span>
      <Button look="well" aria-label="One frame back" onClick={() => stepBy(record.document, -1)}>
        <StepBack className="size-4" />
      </Button>
      <Button
        look="well"
        aria-pressed={playing}
        className="w-20 justify-center bg-well-3"
        onClick={() => act({ do: "play", on: !playing })}
      >
        {playing ? <Pause className="size-4" /> : <Play className="size-4" />} {playing ? "Pause" : "Play"}
      </Button>
      <Button look="well" aria-label="One frame on" onClick={() => stepBy(record.document, 1)}>
        <StepForward className="size-4" />
      </Button>
      <span className="flex rounded-lg bg-well-2 p-0.5">
        <Button
          look="well"
          className="h-[26px] text-xs"
          aria-pressed={flick !== null}
          onClick={() => flickEnds(record.document)}
        >
          Flick ends
        </Button>
        <Button
          look="well"
          className="h-[26px] text-xs"
          aria-pressed={compare?.how === "wipe"}
          title="Wipe against the untouched clip (W)"
          onClick={() =>
            act({
              do: "compare",
              with: compare?.how === "wipe" ? null : { how: "wipe", other: { kind: "untouched" } },
            })
          }
        >
          Wipe
        </Button>
        <ComparePanel />
        <Button
          look="well"
          className="h-[26px] text-xs"
          aria-pressed={held !== null}
          disabled={!holdable}
          title={holdable ? `Hold the surface of ${holdable.name} still (H)` : "Measure a motion first"}
          onClick={() => act({ do: "show", shown: holding(shown, holdable) })}
        >
          Held still
        </Button>
        <Button
          look="well"
          className="h-[26px] text-xs"
          aria-pressed={onion !== null}
          title="Lay the other end of the range over this frame, half opaque (U)"
          onClick={() => act({ do: "onion", frame: onion === null ? otherEnd(footage, frame) : null })}
        >
          Onion
        </Button>
      </span>
      {filmed && (
        <button
          data-testid="as-filmed"
          title="Motions, mends and masks belong to the clip's own frames: these are counted here. Press for the shot's own time."
          className="rounded-full bg-saffron-2 px-2 py-0.5 text-xs font-semibold whitespace-nowrap text-saffron"
          onClick={() => {
            act({ do: "open", what: "advice", on: false });
            act({ do: "choose", chosen: { kind: "footage" } });
          }}
        >
          as filmed
        </button>
      )}
      <span className="num w-[104px] shrink truncate text-on-well-2" data-testid="rate">
        {held ? "held still" : percent === 100 ? "full size" : playing ? "half" : "half size"}
        {onion !== null && ` · over ${onion}`}
        {playing && rate > 0 && ` · ${rate.toFixed(1)} fps`}
      </span>
    </div>
  );
}
