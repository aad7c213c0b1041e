/** What scopes count in a picture of display codes: pure arithmetic, without a screen. */

export interface Pixels {
  /** RGBA, 8 bits each. */
  data: Uint8ClampedArray;
  w: number;
  h: number;
  /** Whether a pixel counts; all of them where there is none. */
  counts?: Uint8Array;
}

export type Channel = "luma" | 0 | 1 | 2;

/** Columns of a waveform, and rows of all scopes: one for each display code. */
export const COLUMNS = 192;
export const CODES = 256;

const luma = (d: Uint8ClampedArray, i: number) => 0.2126 * d[i]! + 0.7152 * d[i + 1]! + 0.0722 * d[i + 2]!;

/** How many pixels of each column of the picture have each code: CODES rows, the brightest on top. */
export function waveform(p: Pixels, channel: Channel): Float32Array {
  const out = new Float32Array(COLUMNS * CODES);
  for (let y = 0, k = 0; y < p.h; y++)
    for (let x = 0; x < p.w; x++, k++) {
      if (p.counts && !p.counts[k]) continue;
      const code = channel === "luma" ? Math.round(luma(p.data, 4 * k)) : p.data[4 * k + channel]!;
      out[(CODES - 1 - code) * COLUMNS + Math.min(COLUMNS - 1, Math.floor((x * COLUMNS) / p.w))]! += 1;
    }
  return out;
}

/** How many pixels have each colour, brightness aside: blue less luma to the right, red less luma upwards (BT.709). */
export function vectors(p: Pixels): Float32Array {
  const out = new Float32Array(CODES * CODES);
  for (let k = 0; k < p.w * p.h; k++) {
    if (p.counts && !p.counts[k]) continue;
    const y = luma(p.data, 4 * k);
    const cb = (p.data[4 * k + 2]! - y) / 1.8556;
    const cr = (p.data[4 * k]! - y) / 1.5748;
    const column = Math.min(CODES - 1, Math.max(0, Math.round(128 + cb)));
    const row = Math.min(CODES - 1, Math.max(0, Math.round(128 - cr)));
    out[row * CODES + column]! += 1;
  }
  return out;
}

/** How many pixels have each code of red, green and blue. */
export function histogram(p: Pixels): [Float32Array, Float32Array, Float32Array] {
  const out: [Float32Array, Float32Array, Float32Array] = [
    new Float32Array(CODES),
    new Float32Array(CODES),
    new Float32Array(CODES),
  ];
  for (let k = 0; k < p.w * p.h; k++) {
    if (p.counts && !p.counts[k]) continue;
    for (let c = 0; c < 3; c++) out[c]![p.data[4 * k + c]!]! += 1;
  }
  return out;
}

export interface Levels {
  black: number;
  middle: number;
  white: number;
}

/** Brightness in % under which one pixel in a hundred lies, half of them, and all but one in a hundred. */
export function levelsOf(p: Pixels): Levels | null {
  const count = new Float32Array(CODES);
  let all = 0;
  for (let k = 0; k < p.w * p.h; k++) {
    if (p.counts && !p.counts[k]) continue;
    count[Math.round(luma(p.data, 4 * k))]! += 1;
    all += 1;
  }
  if (!all) return null;
  const at = (share: number) => {
    let sum = 0;
    for (let code = 0; code < CODES; code++) {
      sum += count[code]!;
      if (sum >= share * all) return Math.round((100 * code) / 255);
    }
    return 100;
  };
  return { black: at(0.01), middle: at(0.5), white: at(0.99) };
}

/** Where a matte (grey, RGBA) is full, or where it is clear. */
export function covered(matte: Uint8ClampedArray, full: boolean): Uint8Array {
  const out = new Uint8Array(matte.length / 4);
  for (let k = 0; k < out.length; k++) out[k] = (full ? matte[4 * k]! > 245 : matte[4 * k]! < 10) ? 1 : 0;
  return out;
}

/** Counts as light: the logarithm, so that single pixels show beside heaps of them. */
export function inked(counts: Float32Array): Uint8ClampedArray {
  let most = 1;
  for (const n of counts) if (n > most) most = n;
  const scale = 255 / Math.log1p(most);
  const out = new Uint8ClampedArray(counts.length);
  for (let k = 0; k < counts.length; k++) out[k] = scale * Math.log1p(counts[k]!);
  return out;
}
