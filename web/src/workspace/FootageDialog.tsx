import { useState } from "react";
import { answered, api, type FootageFrom } from "~/api/client";
import { useAssets } from "~/api/queries";
import { StillGrid } from "~/shelf/StillGrid";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { Dialog } from "~/ui/Dialog";
import { NumberBox } from "~/ui/NumberBox";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";

const SHAPES: Record<string, [number, number]> = {
  "Upright, 1080 × 1920": [1080, 1920],
  "Wide, 1920 × 1080": [1920, 1080],
  "Wide, 1280 × 720": [1280, 720],
  "Square, 1080 × 1080": [1080, 1080],
};
const RATES = ["24", "25", "30", "50", "60"];

/** What a shot is made on besides a file of one's own: a clip that is here already, or nothing at all. */
export function FootageDialog({
  what,
  still = null,
  onClose,
}: {
  what: "shelf" | "empty" | null;
  /** The still that is chosen at first. */
  still?: string | null;
  onClose: () => void;
}) {
  const { shotId } = useOpenShot();
  const { data } = useAssets();
  const clips = (data ?? []).filter(
    (a) => (a.kind === "clip" || a.kind === "still") && a.state === "ready" && !a.settings["canvas"],
  );
  const [held, setHeld] = useState<string | null>(still);
  const chosen = data?.find((a) => a.digest === held);
  const give = async (footage: FootageFrom) => {
    onClose();
    try {
      await answered(
        api.POST("/api/shots/{shot_id}/footage", {
          params: { path: { shot_id: shotId } },
          body: { footage },
        }),
      );
    } catch (problem) {
      complain(problem instanceof Error ? problem.message : String(problem));
    }
  };
  return (
    <Dialog
      wide={what === "shelf"}
      open={what !== null}
      onOpenChange={(on) => !on && onClose()}
      title={
        what === "empty"
          ? "An empty canvas"
          : chosen
            ? `${chosen.name}, held`
            : "A clip or still that is here already"
      }
    >
      {what === "empty" ? (
        <Canvas onMake={(values) => void give({ source: "empty", ...values })} />
      ) : chosen ? (
        <Held onMake={(values) => void give({ source: "still", asset: chosen.digest, ...values })} />
      ) : clips.length ? (
        <StillGrid
          assets={clips}
          verb="Make the shot on"
          onChoose={(asset) =>
            asset.kind === "still"
              ? setHeld(asset.digest)
              : void give({ source: "shelf", asset: asset.digest })
          }
        />
      ) : (
        <p className="py-8 text-center text-ink-2">No clip was brought in yet.</p>
      )}
    </Dialog>
  );
}

/** How long a still is shown. */
function Held({ onMake }: { onMake: (values: { rate: string; frames: number }) => void }) {
  const [rate, setRate] = useState("30");
  const [seconds, setSeconds] = useState(5);
  const frames = Math.max(1, Math.round(seconds * Number(rate)));
  return (
    <>
      <p className="mb-3 text-ink-2">A shot on a still picture: it stands as long as you say.</p>
      <div className="mb-5 grid grid-cols-[110px_1fr] items-center gap-x-3 gap-y-2.5">
        <Lasts rate={rate} setRate={setRate} seconds={seconds} setSeconds={setSeconds} />
      </div>
      <div className="flex justify-end">
        <Button look="primary" onClick={() => onMake({ rate, frames })}>
          Make it
        </Button>
      </div>
    </>
  );
}

/** Rate and length, in two rows. */
function Lasts({
  rate,
  setRate,
  seconds,
  setSeconds,
}: {
  rate: string;
  setRate: (rate: string) => void;
  seconds: number;
  setSeconds: (seconds: number) => void;
}) {
  return (
    <>
      <span>Rate</span>
      <Choice
        label="Rate"
        value={rate}
        names={Object.fromEntries(RATES.map((r) => [r, `${r} frames/s`]))}
        onChange={setRate}
      />
      <span>Length</span>
      <span className="flex items-center gap-2">
        <NumberBox
          label="Length"
          value={seconds}
          low={0.1}
          high={600}
          step={0.5}
          unit="s"
          onCommit={setSeconds}
        />
        <span className="num text-ink-2">{Math.max(1, Math.round(seconds * Number(rate)))} frames</span>
      </span>
    </>
  );
}

function Canvas({
  onMake,
}: {
  onMake: (values: { width: number; height: number; rate: string; frames: number }) => void;
}) {
  const [[width, height], setSize] = useState<[number, number]>([1080, 1920]);
  const [rate, setRate] = useState("30");
  const [seconds, setSeconds] = useState(5);
  const shape = Object.entries(SHAPES).find(([, [w, h]]) => w === width && h === height)?.[0] ?? "Free";
  const frames = Math.max(1, Math.round(seconds * Number(rate)));
  return (
    <>
      <p className="mb-3 text-ink-2">
        A shot without footage: things alone, over black or over nothing. Its length can be cut later.
      </p>
      <div className="mb-5 grid grid-cols-[110px_1fr] items-center gap-x-3 gap-y-2.5">
        <span>Shape</span>
        <Choice
          label="Shape"
          value={shape}
          names={Object.fromEntries([...Object.keys(SHAPES), "Free"].map((n) => [n, n]))}
          onChange={(v) => SHAPES[v] && setSize(SHAPES[v])}
        />
        <span>Size</span>
        <span className="flex items-center gap-2">
          <NumberBox
            label="Width"
            value={width}
            low={16}
            high={4096}
            step={2}
            unit="px"
            onCommit={(v) => setSize([Math.round(v), height])}
          />
          ×
          <NumberBox
            label="Height"
            value={height}
            low={16}
            high={4096}
            step={2}
            unit="px"
            onCommit={(v) => setSize([width, Math.round(v)])}
          />
        </span>
        <Lasts rate={rate} setRate={setRate} seconds={seconds} setSeconds={setSeconds} />
      </div>
      <div className="flex justify-end">
        <Button look="primary" onClick={() => onMake({ width, height, rate, frames })}>
          Make it
        </Button>
      </div>
    </>
  );
}
