import type { Shot } from "~/api/client";
import { valueAt } from "~/workspace/geometry";

type Sound = Shot["sound"];
type Footage = NonNullable<Shot["footage"]>;

/** How loud the sound is at a moment in frames; 1 is as it is. */
export function gainAt(sound: Sound, footage: Footage, at: number): number {
  if (sound.muted) return 0;
  const within = (v: number) => Math.min(1, Math.max(0, v));
  let gain = Math.max(0, valueAt(sound.volume, at) / 100);
  if (sound.fade_in) gain *= within((at - footage.in_frame) / sound.fade_in);
  if (sound.fade_out) gain *= within((footage.out_frame + 1 - at) / sound.fade_out);
  return gain;
}

/** The same for frames `from` to `to`, as a curve to play by. */
export const gainCurve = (sound: Sound, footage: Footage, from: number, to: number) =>
  Float32Array.from({ length: Math.max(2, to - from + 2) }, (_, k) => gainAt(sound, footage, from + k));
