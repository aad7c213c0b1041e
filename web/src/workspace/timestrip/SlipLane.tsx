import { useCallback } from "react";
import type { Slip } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { clipFrame } from "~/workspace/time";
import { type Draw, Lane } from "~/workspace/timestrip/Lane";
import { type Scale, xOf } from "~/workspace/timestrip/scale";

export const SLIP = 34;
/** Swim from which it is seen in motion, and the top of the lane. */
const SEEN = 0.5;
const TOP = 2;

/** How many pixels the chosen thing swims, frame by frame; what lies above the dotted line is seen. */
export function SlipLane({ slip, scale }: { slip: Slip; scale: Scale }) {
  const number = slip.rms_px === null ? "not judged" : `${slip.rms_px.toFixed(2)} pixels`;
  return <PixelLane px={slip.px} top={TOP} label={`Slip: ${number}`} scale={scale} />;
}

/** Pixels, frame by frame of the clip, up to `top` or more. */
export function PixelLane({
  px: pixels,
  top,
  label,
  scale,
}: {
  px: readonly (number | null)[];
  top: number;
  label: string;
  scale: Scale;
}) {
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const draw = useCallback<Draw>(
    (context, colour) => {
      const step = (scale.width - 20) / scale.frames;
      // Square root: small swim must be seen too.
      const height = (px: number) => Math.sqrt(Math.min(px, top) / top) * (SLIP - 4);
      for (let f = 0; f < scale.frames; f++) {
        const px = pixels[clipFrame(footage, f)] ?? null;
        if (px === null) continue;
        context.fillStyle = colour(px > SEEN ? "--brick" : "--tide");
        const h = Math.max(1, height(px));
        context.fillRect(xOf(scale, f) - step / 2, SLIP - h, Math.max(1, step + 0.3), h);
      }
      context.strokeStyle = colour("--ink-3");
      context.setLineDash([2, 3]);
      context.beginPath();
      context.moveTo(10, SLIP - height(SEEN));
      context.lineTo(scale.width - 10, SLIP - height(SEEN));
      context.stroke();
    },
    [pixels, top, scale, footage],
  );
  return <Lane height={SLIP} label={label} scale={scale} draw={draw} />;
}
