import { useQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { answered, api } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { clipFrame, speedAt } from "~/workspace/time";
import { type Draw, Lane } from "~/workspace/timestrip/Lane";
import { type Scale, xOf } from "~/workspace/timestrip/scale";
import { gainAt } from "~/workspace/viewer/soundGain";

export const WAVE = 28;

/** The sound's swings, frame by frame, as loud as they are laid under the shot; behind them as they were recorded. */
export function WaveLane({ scale }: { scale: Scale }) {
  const { record } = useOpenShot();
  const { sound, footage } = record.document;
  const { data: peaks } = useQuery({
    queryKey: ["waveform", footage?.asset],
    queryFn: () =>
      answered(api.GET("/api/clips/{digest}/waveform", { params: { path: { digest: footage!.asset } } })),
    staleTime: Infinity,
    enabled: footage !== null,
  });
  const draw = useCallback<Draw>(
    (context, colour) => {
      if (!peaks || !footage) return;
      const step = (scale.width - 20) / scale.frames;
      const middle = WAVE / 2;
      const bar = (frame: number, swing: number) => {
        const h = Math.max(0.5, Math.min(1, swing) * (middle - 2));
        context.fillRect(xOf(scale, frame) - step / 2, middle - h, Math.max(1, step - 0.3), 2 * h);
      };
      // Square root: quiet sounds must be seen too.
      const seen = (v: number) => Math.sqrt(Math.max(v, 0));
      const frames = Array.from({ length: scale.frames }, (_, f) => f);
      // What stands still is silent.
      const swings = frames.map((f) =>
        Math.abs(speedAt(footage, f)) < 0.02 ? 0 : (peaks[clipFrame(footage, f)] ?? 0),
      );
      context.fillStyle = colour("--line");
      swings.forEach((v, f) => bar(f, seen(v)));
      context.fillStyle = colour(sound.muted ? "--ink-3" : "--tide");
      if (!sound.muted) swings.forEach((v, f) => bar(f, seen(v * gainAt(sound, footage, f + 0.5))));
    },
    [peaks, sound, footage, scale],
  );
  return <Lane height={WAVE} label="Sound" scale={scale} draw={draw} />;
}
