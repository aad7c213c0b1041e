import type { Other } from "~/workspace/store";

/** Exact frames for the viewer: fetched by address, decoded off the main thread, kept by size. */

const ROOM_BYTES = 420 * 1024 * 1024;
const AT_ONCE = 5;
/** A browser has six connections to a server: while frames take longer than this, they must not take them all. */
const SLOW_MS = 500;
const SLOW_AT_ONCE = 2;
/** Frames fetched in advance share the machine with the one that is waited for: one at a time, and after a pause. */
const AHEAD_AT_ONCE = 1;
const PAUSE_MS = 400;
/** A server that does not answer is asked again after so long. */
const AGAIN_MS = 1500;

interface Entry {
  bitmap: ImageBitmap;
  bytes: number;
}

export class FrameStore {
  private kept = new Map<string, Entry>();
  private bytes = 0;
  private running = new Map<string, { ahead: boolean; stop: AbortController }>();
  private urgent: string[] = [];
  private ahead: string[] = [];
  private looked: readonly string[] = [];
  private problems = new Map<string, string>();
  private pausedUntil = 0;
  private timer: ReturnType<typeof setTimeout> | null = null;
  private listeners = new Set<(url: string) => void>();
  /** How long a frame took lately; not known at first, and then taken for slow. */
  private took = SLOW_MS + 1;

  /** Hear of every frame that arrives. */
  onArrival(listener: (url: string) => void): () => void {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  }

  get(url: string): ImageBitmap | null {
    const entry = this.kept.get(url);
    if (!entry) return null;
    this.kept.delete(url);
    this.kept.set(url, entry);
    return entry.bitmap;
  }

  /** Why a frame cannot be made, in the server's words; null: nothing is known against it. */
  problem(url: string): string | null {
    return this.problems.get(url) ?? null;
  }

  /** Ask once more for a frame that could not be made. */
  again(url: string): void {
    this.problems.delete(url);
    this.tell(url);
    this.want(url);
  }

  /** Ask for one more frame now. */
  want(url: string): void {
    this.ask(url, this.urgent);
    this.pump();
  }

  /** What is looked at now, and what may be next: all else that was wanted is forgotten, and advance fetches given up. */
  focus(now: readonly string[], next: readonly string[]): void {
    this.urgent = [];
    this.ahead = [];
    this.looked = now;
    for (const [url, one] of this.running)
      if (one.ahead && !now.includes(url) && !next.includes(url)) {
        one.stop.abort();
        this.running.delete(url);
      }
    for (const url of now) this.ask(url, this.urgent);
    for (const url of next) this.ask(url, this.ahead);
    this.pump();
  }

  private ask(url: string, list: string[]): void {
    const underWay = this.running.get(url);
    if (underWay && list === this.urgent) underWay.ahead = false;
    if (!underWay && !this.kept.has(url) && !this.problems.has(url) && !list.includes(url)) list.push(url);
  }

  put(url: string, bitmap: ImageBitmap): void {
    if (this.kept.has(url)) {
      bitmap.close();
      return;
    }
    const bytes = bitmap.width * bitmap.height * 4;
    this.kept.set(url, { bitmap, bytes });
    this.bytes += bytes;
    for (const [old, entry] of this.kept) {
      if (this.bytes <= ROOM_BYTES || old === url) break;
      this.kept.delete(old);
      this.bytes -= entry.bytes;
      entry.bitmap.close();
    }
    this.tell(url);
  }

  private tell(url: string): void {
    for (const listener of this.listeners) listener(url);
  }

  private pump(): void {
    const room = this.took > SLOW_MS ? SLOW_AT_ONCE : AT_ONCE;
    while (this.urgent.length && this.running.size < room) this.start(this.urgent.shift()!, false);
    const waitedFor = [...this.running.values()].some((one) => !one.ahead);
    if (!this.ahead.length || this.urgent.length || waitedFor) return;
    const pause = this.pausedUntil - performance.now();
    if (pause > 0) {
      this.timer ??= setTimeout(() => {
        this.timer = null;
        this.pump();
      }, pause);
      return;
    }
    while (this.ahead.length && this.running.size < Math.min(room, AHEAD_AT_ONCE))
      this.start(this.ahead.shift()!, true);
  }

  private start(url: string, ahead: boolean): void {
    if (this.kept.has(url) || this.running.has(url)) return;
    const one = { ahead, stop: new AbortController() };
    this.running.set(url, one);
    const began = performance.now();
    void load(url, one.stop.signal).then((answer) => {
      if (this.running.get(url) === one) this.running.delete(url);
      if (!one.stop.signal.aborted) this.took = 0.5 * this.took + 0.5 * (performance.now() - began);
      if (!one.ahead) this.pausedUntil = performance.now() + PAUSE_MS;
      if (answer === "silence") {
        // It is still wanted if it is looked at by then.
        if (!one.stop.signal.aborted) setTimeout(() => this.looked.includes(url) && this.want(url), AGAIN_MS);
      } else if (typeof answer === "string") {
        this.problems.set(url, answer);
        this.tell(url);
      } else this.put(url, answer);
      this.pump();
    });
  }
}

/** A frame; what is in its way, in words; or "silence" where no answer comes. */
async function load(url: string, signal: AbortSignal): Promise<ImageBitmap | string> {
  let answer: Response;
  try {
    answer = await fetch(url, { signal });
  } catch {
    return "silence";
  }
  try {
    if (answer.ok) return await createImageBitmap(await answer.blob());
    const told = (await answer.json()) as { message?: string };
    return told.message ?? UNKNOWN;
  } catch {
    return signal.aborted ? "silence" : UNKNOWN;
  }
}

const UNKNOWN = "This frame could not be made.";

export const frameStore = new FrameStore();

export interface FrameAddress {
  shot: string;
  picture: string;
  view: string;
  percent: number;
  /** In the clip's own time. */
  filmed: boolean;
}

const viewOf = (a: FrameAddress) => (a.filmed ? `filmed-${a.view}` : a.view);

export const frameUrl = (a: FrameAddress, frame: number) =>
  `/api/frames/${a.shot}/${a.picture}/${viewOf(a)}/${a.percent}/${frame}.jpg`;

export const clipUrl = (asset: string, percent: number, frame: number) =>
  `/api/clips/${asset}/${percent}/${frame}.jpg`;

/** Where the frames of what is compared with lie, but for the untouched clip's. */
export function otherAddress(other: Other, address: FrameAddress): FrameAddress {
  if (other.kind === "step") return { ...address, picture: other.picture };
  if (other.kind === "held") return { ...address, view: `held-${other.motion}` };
  if (other.kind === "plate" || other.kind === "final") return { ...address, view: other.kind };
  return address;
}

/** What is compared with at a frame. */
export const otherUrl = (
  other: Other,
  address: FrameAddress,
  asset: string,
  frame: number,
  clipAt: (frame: number) => number,
) =>
  other.kind === "untouched"
    ? clipUrl(asset, address.percent, clipAt(frame))
    : frameUrl(otherAddress(other, address), other.kind === "frame" ? other.frame : frame);

/** A small frame of a finished shot, which the server keeps. */
export const thumbUrl = (shot: string, picture: string, frame: number) =>
  `/api/thumbs/${shot}/${picture}/${frame}.jpg`;

/** Where a run of frames comes from, and under which address each is kept. */
export interface Run {
  url: string;
  each: (frame: number) => string;
}

export const shotRun = (a: FrameAddress): Run => ({
  url: `/api/frames/${a.shot}/${a.picture}/${viewOf(a)}/${a.percent}/range`,
  each: (frame) => frameUrl(a, frame),
});

export const clipRun = (asset: string, percent: number): Run => ({
  url: `/api/clips/${asset}/${percent}/range`,
  each: (frame) => clipUrl(asset, percent, frame),
});

/** Read a run of frames as one stream into the store. Ends early when `signal` says so. */
export async function streamFrames(
  run: Run,
  start: number,
  stop: number,
  every: number,
  signal: AbortSignal,
): Promise<void> {
  const answer = await fetch(`${run.url}?start=${start}&stop=${stop}&every=${every}`, { signal });
  if (!answer.ok || !answer.body) return;
  const reader = answer.body.getReader();
  let held = new Uint8Array(0);
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const joined = new Uint8Array(held.length + value.length);
    joined.set(held);
    joined.set(value, held.length);
    held = joined;
    while (held.length >= 8) {
      const header = new DataView(held.buffer, held.byteOffset, 8);
      const frame = header.getUint32(0, true);
      const size = header.getUint32(4, true);
      if (held.length < 8 + size) break;
      const jpeg = held.slice(8, 8 + size);
      held = held.slice(8 + size);
      void createImageBitmap(new Blob([jpeg], { type: "image/jpeg" })).then((bitmap) =>
        frameStore.put(run.each(frame), bitmap),
      );
    }
  }
}
