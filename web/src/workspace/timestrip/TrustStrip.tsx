import { useEffect, useRef } from "react";
import type { PointMotion } from "~/workspace/timestrip/types";
import { type Scale, xOf } from "~/workspace/timestrip/TimeStrip";
import { LOST, useTracks } from "~/workspace/tracks";

const HEIGHT = 27;

/** How sure a motion is, frame by frame: height is trust; lost frames are low hatched bricks; stakes stand out. */
export function TrustStrip({ motion, scale }: { motion: PointMotion; scale: Scale }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const tracks = useTracks(motion);
  useEffect(() => {
    const element = canvas.current;
    const context = element?.getContext("2d");
    if (!element || !context) return;
    const ratio = devicePixelRatio;
    element.width = scale.width * ratio;
    element.height = HEIGHT * ratio;
    context.scale(ratio, ratio);
    const style = getComputedStyle(element);
    const colour = (name: string) => style.getPropertyValue(name);
    const step = (scale.width - 20) / scale.frames;
    const bar = Math.max(1, step + 0.4);
    const lost = new Path2D();
    for (let f = 0; f < scale.frames; f++) {
      const spots = motion.points.map((p) => tracks.at(p.id, f)).filter((s) => s !== null);
      if (!spots.length) continue;
      const x = xOf(scale, f) - step / 2;
      if (spots.some((s) => s.state === LOST)) {
        lost.rect(x, HEIGHT - 7, bar, 7);
        context.fillStyle = colour("--brick");
        context.fillRect(x, HEIGHT - 7, bar, 7);
        continue;
      }
      const trust = Math.min(...spots.map((s) => s.confidence));
      context.fillStyle = colour("--tide");
      context.globalAlpha = 0.78;
      const h = 4 + trust * (HEIGHT - 7);
      context.fillRect(x, HEIGHT - h, bar, h);
      context.globalAlpha = 1;
    }
    {
      context.save();
      context.clip(lost);
      context.strokeStyle = colour("--sheet");
      context.lineWidth = 1.2;
      context.beginPath();
      for (let x = 0; x < scale.width; x += 6) {
        context.moveTo(x, HEIGHT);
        context.lineTo(x + 7, HEIGHT - 7);
      }
      context.stroke();
      context.restore();
    }
    context.fillStyle = colour("--saffron-bar");
    for (const f of new Set(motion.points.flatMap((p) => p.given.map((g) => g.frame))))
      context.fillRect(xOf(scale, f) - 3, 3, 6, HEIGHT - 3);
  }, [motion, scale, tracks]);
  return (
    <canvas
      ref={canvas}
      role="img"
      aria-label={`Trust of ${motion.name}${tracks.measured ? "" : ": not measured yet"}`}
      className="block"
      style={{ width: scale.width, height: HEIGHT }}
    />
  );
}
