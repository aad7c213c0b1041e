export const EDGE = 10;

/** Frame to horizontal position and back; the one scale of the strip. */
export interface Scale {
  width: number;
  frames: number;
}
export const xOf = (s: Scale, frame: number) => EDGE + ((frame + 0.5) / s.frames) * (s.width - 2 * EDGE);
export const frameAt = (s: Scale, x: number) =>
  Math.min(s.frames - 1, Math.max(0, Math.floor(((x - EDGE) / (s.width - 2 * EDGE)) * s.frames)));
