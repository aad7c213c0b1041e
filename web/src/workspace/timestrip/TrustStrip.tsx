import { useCallback } from "react";
import type { Motion } from "~/workspace/timestrip/types";
import { useOpenShot } from "~/workspace/context";
import { clipFrame, frameShowing } from "~/workspace/time";
import { type Draw, Lane } from "~/workspace/timestrip/Lane";
import { type Scale, xOf } from "~/workspace/timestrip/scale";
import { LOST, useHealth } from "~/workspace/tracks";

const HEIGHT = 27;

/** Frames on which the creator put something right by hand. */
function handFrames(motion: Motion): Set<number> {
  if (motion.kind === "points") return new Set(motion.points.flatMap((p) => p.given.map((g) => g.frame)));
  if (motion.kind === "form") return new Set(motion.stakes.filter((s) => s.tugs.length).map((s) => s.frame));
  if (motion.kind === "plane") return new Set([motion.reference_frame, ...motion.stakes.map((s) => s.frame)]);
  return new Set();
}

/** How sure a motion is, frame by frame: height is trust; lost frames are low hatched bricks; stakes stand out. */
export function TrustStrip({ motion, scale }: { motion: Motion; scale: Scale }) {
  const health = useHealth(motion);
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const draw = useCallback<Draw>(
    (context, colour) => {
      const step = (scale.width - 20) / scale.frames;
      const bar = Math.max(1, step + 0.4);
      const lost = new Path2D();
      const sure = new Path2D();
      const fewer = new Path2D();
      for (let f = 0; f < scale.frames; f++) {
        const trust = health.at(clipFrame(footage, f));
        if (!trust) continue;
        const x = xOf(scale, f) - step / 2;
        if (trust.state === LOST) {
          lost.rect(x, HEIGHT - 7, bar, 7);
          context.fillStyle = colour("--brick");
          context.fillRect(x, HEIGHT - 7, bar, 7);
          continue;
        }
        const h = 4 + trust.confidence * (HEIGHT - 7);
        sure.rect(x, HEIGHT - h, bar, h);
        // Fewer ways to move than asked for: a gap along the foot of the bar.
        if (trust.fewer) fewer.rect(x, HEIGHT - 5, bar, 2);
      }
      // Filled as one shape each, so that no seams show between the frames.
      context.globalAlpha = 0.78;
      context.fillStyle = colour("--tide");
      context.fill(sure);
      context.globalAlpha = 1;
      context.fillStyle = colour("--sheet");
      context.fill(fewer);
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
      for (const f of handFrames(motion))
        context.fillRect(xOf(scale, frameShowing(footage, f)) - 3, 3, 6, HEIGHT - 3);
    },
    [motion, scale, health, footage],
  );
  const label = `Trust of ${motion.name}${health.measured ? "" : ": not measured yet"}`;
  return <Lane height={HEIGHT} label={label} scale={scale} draw={draw} />;
}
