import { useEffect, useRef, useState } from "react";
import type { Compare } from "~/workspace/store";
import { type FrameAddress, frameStore, frameUrl, otherUrl } from "~/workspace/viewer/frames";
import type { Mapping } from "~/workspace/viewer/viewport";

interface PictureProps {
  address: FrameAddress;
  /** Whether a change is shown at half size until the full one is here; filming a model twice would take longer. */
  halfFirst: boolean;
  asset: string;
  frame: number;
  frames: number;
  mapping: Mapping;
  picture: { w: number; h: number };
  size: { w: number; h: number };
  compare: Compare | null;
  /** The clip's frame that a frame of the shot shows. */
  clipAt: (frame: number) => number;
  onion: number | null;
  onionShare: number;
  playing: boolean;
}

const SETTLED_MS = 120;
const GIVEN_UP_MS = 2000;
const LATE_MS = 1200;

/** The canvas: draws exactly the frame asked for, or keeps the last one until that has arrived. */
export function Picture({
  address,
  halfFirst,
  asset,
  frame,
  frames,
  mapping,
  picture,
  size,
  compare,
  clipAt,
  onion,
  onionShare,
  playing,
}: PictureProps) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [, redraw] = useState(0);
  const drawn = useRef("");
  const last = useRef<ImageBitmap | null>(null);
  const url = frameUrl(address, frame);
  const under = compare && otherUrl(compare.other, address, asset, frame, clipAt);
  const skin = onion === null || onion === frame || playing ? null : frameUrl(address, onion);

  // Full size takes four times as long: what changed is seen at half size first, and sharpens when nothing more changes.
  const quick = halfFirst && address.percent === 100 ? frameUrl({ ...address, percent: 50 }, frame) : null;

  useEffect(() => {
    if (playing) return;
    const beside = [under, skin].filter((u) => u !== null);
    const next: string[] = [];
    for (let k = 1; k <= 6; k++)
      for (const near of [frame + k, frame - k])
        if (near >= 0 && near < frames) {
          next.push(frameUrl(quick ? { ...address, percent: 50 } : address, near));
          if (compare && k <= 3) next.push(otherUrl(compare.other, address, asset, near, clipAt));
        }
    const whole = () => frameStore.focus([url, ...beside], next);
    if (!quick || frameStore.get(url) || frameStore.get(quick) || frameStore.problem(quick)) {
      whole();
      return;
    }
    frameStore.focus([quick, ...beside], []);
    let timer = setTimeout(whole, GIVEN_UP_MS);
    const off = frameStore.onArrival((arrived) => {
      if (arrived !== quick) return;
      clearTimeout(timer);
      timer = setTimeout(whole, SETTLED_MS);
    });
    return () => {
      clearTimeout(timer);
      off();
    };
  }, [url, quick, under, skin, address, asset, compare, frame, frames, playing, clipAt]);

  useEffect(
    () =>
      frameStore.onArrival((arrived) => {
        if ([url, quick, under, skin].includes(arrived)) redraw((n) => n + 1);
      }),
    [url, quick, under, skin],
  );

  useEffect(() => {
    const element = canvas.current;
    const context = element?.getContext("2d", { alpha: false });
    if (!element || !context) return;
    const ratio = devicePixelRatio;
    const wanted = { w: Math.round(size.w * ratio), h: Math.round(size.h * ratio) };
    const exact = frameStore.get(url);
    const bitmap = exact ?? nearScale(address, frame);
    const original = under ? frameStore.get(under) : null;
    // While playing, a picture without its other half beats none.
    const ready = bitmap && (!under || original || playing);
    const layout = `${wanted.w}x${wanted.h}:${mapping.zoom}:${mapping.x}:${mapping.y}`;
    // Empty while another frame, or another scale of it, stands in for the one asked for.
    element.dataset["url"] = ready && exact ? url : "";
    if (!ready && drawn.current === layout) return; // Keep the last frame on screen until this one is here.
    if (element.width !== wanted.w || element.height !== wanted.h) {
      element.width = wanted.w;
      element.height = wanted.h;
    }
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.fillStyle = getComputedStyle(element).getPropertyValue("--well");
    context.fillRect(0, 0, wanted.w, wanted.h);
    const box = [
      mapping.x * ratio,
      mapping.y * ratio,
      picture.w * mapping.zoom * ratio,
      picture.h * mapping.zoom * ratio,
    ] as const;
    const soft = mapping.zoom * ratio < 3;
    context.imageSmoothingEnabled = soft;
    context.imageSmoothingQuality = "high";
    // Laid out anew, the last frame lies in its new place; one that was let go has no size any more.
    const seen = bitmap ?? (last.current?.width ? last.current : null);
    if (seen) {
      context.save();
      // Beside each other, each has its half of the well.
      if (compare?.how === "beside") clip(context, wanted.w / 2, 0, wanted.w / 2, wanted.h);
      context.drawImage(seen, ...box);
      context.restore();
      last.current = seen;
    }
    if (original && compare) drawOther(context, original, compare, box, wanted);
    const over = skin ? frameStore.get(skin) : null;
    if (over) {
      context.globalAlpha = onionShare;
      context.drawImage(over, ...box);
      context.globalAlpha = 1;
    }
    element.dataset["onion"] = over ? String(onion) : "";
    drawn.current = layout;
    if (ready) element.dataset["frame"] = String(frame);
  });

  const problem = playing ? null : frameStore.problem(url);
  const waiting = !playing && !problem && !frameStore.get(url) && !nearScale(address, frame);
  return (
    <>
      <canvas
        ref={canvas}
        aria-label={`Frame ${frame}`}
        role="img"
        data-url=""
        className="absolute inset-0 size-full"
        style={{ width: size.w, height: size.h }}
      />
      {waiting && <Waiting key={url} frame={frame} />}
      {problem && (
        <div
          role="alert"
          className="absolute top-14 left-1/2 z-10 flex max-w-lg -translate-x-1/2 items-center gap-2 rounded-2xl border border-brick bg-brick-2 px-3 py-1.5 text-xs text-brick"
        >
          <span>
            Frame <span className="num">{frame}</span> is not shown as it is now. {problem}
          </span>
          <button className="font-semibold underline" onClick={() => frameStore.again(url)}>
            Try again
          </button>
        </div>
      )}
    </>
  );
}

type Box = readonly [number, number, number, number];

function clip(context: CanvasRenderingContext2D, ...box: Box) {
  context.beginPath();
  context.rect(...box);
  context.clip();
}

/** What is compared with: on its side of the wipe, in its own half, or taken off with what is left made stronger. */
function drawOther(
  context: CanvasRenderingContext2D,
  other: ImageBitmap,
  { how, at, gain }: Compare,
  box: Box,
  well: { w: number; h: number },
) {
  context.save();
  if (how === "wipe") {
    clip(context, box[0], box[1], box[2] * at, box[3]);
    context.drawImage(other, ...box);
  } else if (how === "beside") {
    clip(context, 0, 0, well.w / 2, well.h);
    context.drawImage(other, box[0] - well.w / 2, box[1], box[2], box[3]);
    context.fillStyle = "#000";
    context.fillRect(well.w / 2 - 1, 0, 2, well.h);
  } else {
    clip(context, ...box);
    context.globalCompositeOperation = "difference";
    context.drawImage(other, ...box);
    context.globalCompositeOperation = "copy";
    context.filter = `brightness(${gain})`;
    context.drawImage(context.canvas, 0, 0);
  }
  context.restore();
}

/** Said when a frame takes its time: models are filmed and cut-outs carried for the first look at it. */
function Waiting({ frame }: { frame: number }) {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), LATE_MS);
    return () => clearTimeout(timer);
  }, []);
  if (!late) return null;
  return (
    <p
      role="status"
      className="absolute top-14 left-1/2 z-10 -translate-x-1/2 rounded-2xl border border-well-3 bg-well-2 px-3 py-1.5 text-xs text-on-well"
    >
      Drawing frame <span className="num">{frame}</span> …
    </p>
  );
}

/** The same frame at another scale, shown until the wanted one arrives. */
function nearScale(address: FrameAddress, frame: number): ImageBitmap | null {
  for (const percent of [100, 50, 25])
    if (percent !== address.percent) {
      const found = frameStore.get(frameUrl({ ...address, percent }, frame));
      if (found) return found;
    }
  return null;
}
