import { useCallback } from "react";
import type { Motion } from "~/api/client";
import type { RoomCamera } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { useCameras } from "~/workspace/spaces";
import { lengthOf } from "~/workspace/time";
import { type Draw, Lane } from "~/workspace/timestrip/Lane";
import { type Scale, xOf } from "~/workspace/timestrip/scale";

const BAND = 38;
export const CAMERA_CURVES = 3 * BAND;
const DEGREES = 180 / Math.PI;

interface Band {
  says: string;
  unit: string;
  /** What is drawn, each in a line of its own look. */
  lines: string[];
  /** No band shows less than that: noise of a still camera would fill it. */
  least: number;
  at: (camera: RoomCamera, frame: number, width: number) => number[];
}

const LOOKS: { colour: string; dash: number[] }[] = [
  { colour: "--tide", dash: [] },
  { colour: "--saffron-bar", dash: [5, 3] },
  { colour: "--ink-2", dash: [1.5, 2.5] },
];

const BANDS: Band[] = [
  {
    says: "place",
    unit: "mm",
    lines: ["x", "y", "z"],
    least: 2,
    at: (camera, frame) => camera.eye(frame).map((v) => v * 1000),
  },
  {
    says: "turn",
    unit: "°",
    lines: ["pan", "tilt", "roll"],
    least: 0.2,
    at: (camera, frame) => {
      const m = camera.turn(frame);
      const ahead = [-m[2]!, -m[5]!, -m[8]!] as const;
      return [
        Math.atan2(ahead[0], -ahead[2]) * DEGREES,
        Math.asin(Math.min(1, Math.max(-1, ahead[1]))) * DEGREES,
        Math.atan2(-m[3]!, m[4]!) * DEGREES,
      ];
    },
  },
  {
    says: "lens",
    unit: "mm",
    lines: ["35 mm equivalent"],
    least: 0.2,
    at: (camera, frame, width) => [(camera.focal(frame) / width) * 36],
  },
];

/** Angles go on where they would jump by a whole turn. */
const unwound = (values: number[]) => {
  let add = 0;
  return values.map((v, k) => {
    if (k > 0) add -= Math.round((v - values[k - 1]!) / 360) * 360;
    return v + add;
  });
};

/** A solved camera over time: where it is, which way it looks, and its lens, each about its own middle. */
export function CameraCurves({ motion, scale }: { motion: Motion; scale: Scale }) {
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const camera = useCameras().get(motion.id);
  const frames = lengthOf(footage);
  const width = Math.max(footage?.width ?? 1, footage?.height ?? 1);
  const draw = useCallback<Draw>(
    (context, colour) => {
      if (!camera) return;
      context.font = "10.5px 'DM Mono'";
      BANDS.forEach((band, b) => {
        const every = Array.from({ length: frames }, (_, f) => band.at(camera, f, width));
        const lines = band.lines.map((_, k) => {
          const values = every.map((row) => row[k]!);
          return band.unit === "°" ? unwound(values) : values;
        });
        const middles = lines.map((line) => (Math.max(...line) + Math.min(...line)) / 2);
        const reach = Math.max(
          band.least,
          ...lines.map((line, k) => Math.max(...line.map((v) => Math.abs(v - middles[k]!)))),
        );
        const top = b * BAND;
        lines.forEach((line, k) => {
          context.strokeStyle = colour(LOOKS[k]!.colour);
          context.setLineDash(LOOKS[k]!.dash);
          context.lineWidth = 1.4;
          context.beginPath();
          line.forEach((v, f) => {
            const y = top + BAND / 2 + 5 - ((v - middles[k]!) / reach) * (BAND / 2 - 9);
            if (f) context.lineTo(xOf(scale, f), y);
            else context.moveTo(xOf(scale, f), y);
          });
          context.stroke();
        });
        context.setLineDash([]);
        context.fillStyle = colour("--ink-3");
        const about = reach < 10 ? reach.toFixed(1) : reach.toFixed(0);
        context.fillText(`${band.says} ±${about} ${band.unit} · ${band.lines.join(", ")}`, 14, top + 11);
      });
    },
    [camera, frames, width, scale],
  );
  return <Lane height={CAMERA_CURVES} label={`Path of ${motion.name} over time`} scale={scale} draw={draw} />;
}
