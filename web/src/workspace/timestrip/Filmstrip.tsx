import { useEffect, useRef, useState } from "react";
import type { Footage } from "~/workspace/timestrip/types";
import { momentOf } from "~/workspace/time";
import type { Scale } from "~/workspace/timestrip/scale";

const HEIGHT = 38;
const STRIP_MOST = 48;

/** Small pictures of the clip along the time line, drawn from the one strip the server keeps. */
export function Filmstrip({ asset, footage, scale }: { asset: string; footage: Footage; scale: Scale }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [strip, setStrip] = useState<HTMLImageElement | null>(null);
  useEffect(() => {
    const image = new Image();
    image.onload = () => setStrip(image);
    image.src = `/api/media/${asset}/strip.jpg`;
  }, [asset]);
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context || !strip || !canvas.current) return;
    const ratio = devicePixelRatio;
    canvas.current.width = scale.width * ratio;
    canvas.current.height = HEIGHT * ratio;
    context.scale(ratio, ratio);
    const every = Math.max(1, Math.ceil(footage.frames / STRIP_MOST));
    const count = Math.ceil(footage.frames / every);
    const w = strip.width / count;
    const shown = (w * HEIGHT) / strip.height;
    const inner = scale.width - 20;
    for (let x = 0; x < inner; x += shown) {
      const at = momentOf(footage, Math.floor(((x + shown / 2) / inner) * scale.frames));
      const k = Math.min(count - 1, Math.floor(at / every));
      const part = Math.min(shown, inner - x) / shown;
      context.drawImage(strip, k * w, 0, w * part, strip.height, 10 + x, 0, shown * part, HEIGHT);
    }
  }, [strip, scale.width, scale.frames, footage]);
  return (
    <canvas
      ref={canvas}
      aria-label="Film strip"
      className="block"
      style={{ width: scale.width, height: HEIGHT }}
    />
  );
}
