import type { Shot } from "~/api/client";

type Footage = NonNullable<Shot["footage"]>;

const perSecond = (rate: string): number => {
  const [n = 25, d = 1] = rate.split("/").map(Number);
  return n / d;
};

/** Frames a second at which footage was filmed. */
export const filmedFps = (footage: Pick<Footage, "rate">): number => perSecond(footage.rate);

/** Frames a second at which it is shown, heard and delivered. */
export const fpsOf = (footage: Pick<Footage, "rate" | "played_at">): number =>
  perSecond(footage.played_at ?? footage.rate);

/** A rate in words: two places at the most. */
export const rateText = (fps: number): string => String(Math.round(fps * 100) / 100);
