import type { DeliveryFrame } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { kindOf } from "~/workspace/kinds";
import { freshName, freshShotId } from "~/workspace/patches";
import { Card } from "~/workspace/runsheet/Card";
import { VerbMenu } from "~/workspace/runsheet/VerbMenu";
import { act } from "~/workspace/store";

const SHAPES: { shape: DeliveryFrame["shape"]; name: string; label: string; hint: string }[] = [
  { shape: "9:16", name: "Upright", label: "Upright, 9:16", hint: "short videos on phones" },
  { shape: "4:5", name: "Portrait", label: "Portrait, 4:5", hint: "a post that fills a phone's feed" },
  { shape: "1:1", name: "Square", label: "Square, 1:1", hint: "as wide as tall" },
  { shape: "16:9", name: "Wide", label: "Wide, 16:9", hint: "screens and players" },
  { shape: "free", name: "Frame", label: "Free", hint: "a width and height of one's own" },
];

/** How wide a frame is for its height. */
export const ratioOf = (frame: DeliveryFrame): number => {
  if (frame.shape === "free") return frame.width / frame.height;
  const [a = 1, b = 1] = frame.shape.split(":").map(Number);
  return a / b;
};

/** A frame to be delivered: which shape it has. */
export function FrameMenu({ disabled }: { disabled: boolean }) {
  const { record, edits } = useOpenShot();
  const add = async (shape: DeliveryFrame["shape"], called: string) => {
    const { footage, frames } = record.document;
    if (!footage) return;
    const id = freshShotId("frame", record.document);
    const name = freshName(called, frames);
    const value = { kind: "frame", id, name, shape, x: footage.width / 2, y: footage.height / 2 };
    if (await edits.edit(`Frame ${name}`, [{ op: "add", path: "/frames/-", value }]))
      act({ do: "choose", chosen: { kind: "frame", id } });
  };
  return (
    <VerbMenu
      verb="Cut"
      disabled={disabled}
      rows={SHAPES.map((s) => ({ label: s.label, hint: s.hint, run: () => void add(s.shape, s.name) }))}
    />
  );
}

export function FrameCard({ frame, on }: { frame: DeliveryFrame; on: boolean }) {
  const { record } = useOpenShot();
  const names = kindOf("frame", "frame")?.schema.properties?.["pixels"]?.["x-plonket"]?.names ?? {};
  const size = frame.shape === "free" ? `${frame.width} × ${frame.height}` : names[frame.pixels];
  const leader = record.document.motions.find((m) => m.id === frame.target);
  const ratio = ratioOf(frame);
  const tall = Math.min(20, 30 / ratio);
  return (
    <Card
      on={on}
      onChoose={() => act({ do: "choose", chosen: { kind: "frame", id: frame.id } })}
      picture={
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <rect x="4" y="4" width="34" height="20" fill="none" stroke="#8d9298" strokeDasharray="2 2" />
          <rect
            x={21 - (tall * ratio) / 2}
            y={14 - tall / 2}
            width={tall * ratio}
            height={tall}
            rx="1.5"
            fill="var(--tide)"
            fillOpacity="0.35"
            stroke="var(--glow)"
            strokeWidth="1.6"
          />
        </svg>
      }
      name={frame.name}
      line={
        <span className="num truncate">
          {size}
          {leader ? ` · follows ${leader.name}` : ""}
        </span>
      }
    />
  );
}
