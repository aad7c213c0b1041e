import { lengthOf } from "~/workspace/time";
import { useCallback } from "react";
import type { Motion } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { apply } from "~/workspace/geometry";
import { useSpaces } from "~/workspace/spaces";
import { type Draw, Lane } from "~/workspace/timestrip/Lane";
import { type Scale, xOf } from "~/workspace/timestrip/scale";
import { LOST, useTracks } from "~/workspace/tracks";

export const CURVES = 72;

/** The measured path over time: across in tide, down in saffron, dashed; one pair per point or for a plane's middle. */
export function Curves({ motion, scale }: { motion: Motion; scale: Scale }) {
  const { record } = useOpenShot();
  const tracks = useTracks(motion.kind === "points" ? motion : null);
  const spaces = useSpaces();
  const frames = lengthOf(record.document.footage);
  const draw = useCallback<Draw>(
    (context, colour) => {
      const paths: ({ x: number; y: number } | null)[][] = [];
      if (motion.kind === "plane") {
        const middle = {
          x: motion.quad.reduce((s, c) => s + c[0], 0) / 4,
          y: motion.quad.reduce((s, c) => s + c[1], 0) / 4,
        };
        paths.push(Array.from({ length: frames }, (_, f) => apply(spaces.plane(motion, f), middle)));
      } else if (motion.kind === "points") {
        for (const p of motion.points)
          paths.push(
            Array.from({ length: frames }, (_, f) => {
              const spot = tracks.at(p.id, f);
              return spot && spot.state !== LOST ? spot : null;
            }),
          );
      }
      const around = (path: ({ x: number; y: number } | null)[], axis: "x" | "y") => {
        const known = path.filter((p) => p !== null).map((p) => p[axis]);
        return known.length ? (Math.max(...known) + Math.min(...known)) / 2 : 0;
      };
      const reach = Math.max(
        2,
        ...paths.flatMap((path) =>
          (["x", "y"] as const).flatMap((axis) => {
            const middle = around(path, axis);
            return path.map((p) => (p ? Math.abs(p[axis] - middle) : 0));
          }),
        ),
      );
      for (const path of paths)
        for (const axis of ["x", "y"] as const) {
          const middle = around(path, axis);
          context.strokeStyle = colour(axis === "x" ? "--tide" : "--saffron-bar");
          context.setLineDash(axis === "x" ? [] : [5, 3]);
          context.lineWidth = 1.4;
          context.beginPath();
          let down = false;
          path.forEach((p, f) => {
            if (!p) {
              down = false;
              return;
            }
            const y = CURVES / 2 + ((p[axis] - middle) / reach) * (CURVES / 2 - 5);
            if (down) context.lineTo(xOf(scale, f), y);
            else context.moveTo(xOf(scale, f), y);
            down = true;
          });
          context.stroke();
        }
      context.setLineDash([]);
      context.fillStyle = colour("--ink-3");
      context.font = "10.5px 'DM Mono'";
      context.fillText(`±${reach.toFixed(0)} px · across — down - -`, 14, 12);
    },
    [motion, scale, tracks, spaces, frames],
  );
  return <Lane height={CURVES} label={`Path of ${motion.name} over time`} scale={scale} draw={draw} />;
}
