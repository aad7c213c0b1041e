import { useEffect, useRef, useState } from "react";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { useWorkspace } from "~/workspace/store";
import { clipUrl, type FrameAddress, frameStore, frameUrl } from "~/workspace/viewer/frames";
import type { Grab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const SIZE = 168;
const TIMES = 7;

/** A round magnifier, at full resolution, with the spot in its middle. */
export function Loupe({
  asset,
  frame,
  at,
  screen,
  bounds,
  address = null,
}: {
  asset: string;
  frame: number;
  /** Picture pixel in the middle. */
  at: Point;
  screen: Point;
  bounds: { w: number; h: number };
  /** Show the shot as it is in this view instead of the untouched plate. */
  address?: FrameAddress | null;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [, redraw] = useState(0);
  const url = address ? frameUrl({ ...address, percent: 100 }, frame) : clipUrl(asset, 100, frame);
  useEffect(() => {
    frameStore.want(url);
    return frameStore.onArrival((arrived) => arrived === url && redraw((n) => n + 1));
  }, [url]);
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context) return;
    const bitmap = frameStore.get(url);
    context.imageSmoothingEnabled = false;
    context.fillStyle = "#111";
    context.fillRect(0, 0, SIZE, SIZE);
    if (bitmap) {
      const half = SIZE / TIMES / 2;
      context.drawImage(bitmap, at.x - half, at.y - half, half * 2, half * 2, 0, 0, SIZE, SIZE);
    }
    context.strokeStyle = "#000a";
    context.lineWidth = 3;
    cross(context);
    context.strokeStyle = "#ffc24a";
    context.lineWidth = 1.2;
    cross(context);
  });
  const left = screen.x + 36 + SIZE > bounds.w ? screen.x - 36 - SIZE : screen.x + 36;
  const top = Math.min(Math.max(8, screen.y - SIZE / 2), bounds.h - SIZE - 34);
  return (
    <div data-testid="loupe" className="pointer-events-none absolute" style={{ left, top }}>
      <canvas
        ref={canvas}
        width={SIZE}
        height={SIZE}
        className="rounded-full border-2 border-(--on-picture) shadow-2xl"
        aria-label="Loupe"
      />
      <div className="num mx-auto mt-1 w-fit rounded-full bg-black/70 px-2 py-0.5 text-on-well">
        {at.x.toFixed(1)}, {at.y.toFixed(1)}
      </div>
    </div>
  );
}

function cross(context: CanvasRenderingContext2D) {
  const c = SIZE / 2;
  context.beginPath();
  for (const [x, y] of [
    [1, 0],
    [-1, 0],
    [0, 1],
    [0, -1],
  ] as const) {
    context.moveTo(c + x * 7, c + y * 7);
    context.lineTo(c + x * 26, c + y * 26);
  }
  context.stroke();
}

/** The loupe over whatever a hand holds on the picture. */
export function HeldLoupe({ hand, mapping }: { hand: Grab; mapping: Mapping }) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const box = hand.held && hand.svg.current?.getBoundingClientRect();
  const asset = record.document.footage?.asset;
  if (!hand.held || !box || !asset) return null;
  return (
    <Loupe
      asset={asset}
      frame={frame}
      at={hand.held}
      screen={toScreen(mapping, hand.held)}
      bounds={{ w: box.width, h: box.height }}
    />
  );
}
