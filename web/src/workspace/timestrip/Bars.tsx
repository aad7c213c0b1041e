import { useCallback, useState } from "react";
import type { Layer } from "~/api/client";
import { useAssets } from "~/api/queries";
import { dragFrom } from "~/ui/drag";
import { useOpenShot } from "~/workspace/context";
import { keysOf } from "~/workspace/geometry";
import { allLayers, findLayer, setOnLayer } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { movingOf } from "~/workspace/timestrip/keyed";
import { EDGE, type Scale, xOf } from "~/workspace/timestrip/scale";

export const BAR = 24;
/** So near, in pixels, a dragged end takes on the place of something else. */
const SNAP = 7;

interface Times {
  begins: number;
  ends: number;
  fade_in: number;
  fade_out: number;
}

/** From when to when a layer is there, in a clip of so many frames. */
export const timesOf = (layer: Layer, frames: number): Times => ({
  begins: Math.min(layer.begins ?? 0, frames - 1),
  ends: Math.min(layer.ends ?? frames - 1, frames - 1),
  fade_in: layer.fade_in,
  fade_out: layer.fade_out,
});

/** As it is stored: what reaches to the clip's own ends has none. */
const stored = (t: Times, frames: number) => ({
  begins: t.begins <= 0 ? null : t.begins,
  ends: t.ends >= frames - 1 && !t.fade_out ? null : t.ends,
  fade_in: t.fade_in,
  fade_out: t.fade_out,
});

/** Frames on which something begins, ends or has a key, but for one layer. */
function useStops(besides: string): number[] {
  const { record } = useOpenShot();
  const shot = record.document;
  const frame = useWorkspace((s) => s.frame);
  const out = [frame, shot.footage?.in_frame ?? 0, (shot.footage?.out_frame ?? 0) + 1];
  out.push(...shot.markers.map((m) => m.frame));
  for (const layer of allLayers(shot)) {
    if (layer.id === besides) continue;
    if (layer.begins !== null) out.push(layer.begins);
    if (layer.ends !== null) out.push(layer.ends + 1);
  }
  const own = findLayer(shot, besides);
  for (const n of own ? movingOf(own) : []) out.push(...keysOf(n.value).map((k) => k.frame));
  return out;
}

type Part = "whole" | "begins" | "ends" | "fade_in" | "fade_out";

/** A layer's bar: drag it, its ends, or the knobs of its fades; with Alt its clip slips under it. */
export function Bar({ layer, scale }: { layer: Layer; scale: Scale }) {
  const { edits } = useOpenShot();
  const { data: assets } = useAssets();
  const chosen = useWorkspace((s) => s.chosen.kind === "layer" && s.chosen.id === layer.id);
  const stops = useStops(layer.id);
  const [live, setLive] = useState<Times | null>(null);
  const { frames } = scale;
  const kept = timesOf(layer, frames);
  const now = live ?? kept;
  const isClip =
    "starts" in layer && "asset" in layer && assets?.find((a) => a.digest === layer.asset)?.kind === "clip";
  const step = (scale.width - 2 * EDGE) / frames;
  const left = xOf(scale, now.begins) - step / 2;
  const right = xOf(scale, now.ends) + step / 2;

  /** The frame nearest to a place, or the stop that is near it. */
  const snapped = (frame: number) => {
    const near = stops.filter((s) => Math.abs(s - frame) * step <= SNAP);
    return near.sort((a, b) => Math.abs(a - frame) - Math.abs(b - frame))[0] ?? frame;
  };
  const moved = (part: Part, from: number, to: number): Times => {
    const by = to - from;
    if (part === "begins")
      return { ...kept, begins: Math.max(0, Math.min(snapped(kept.begins + by), kept.ends)) };
    if (part === "ends")
      return { ...kept, ends: Math.min(frames - 1, Math.max(snapped(kept.ends + 1 + by) - 1, kept.begins)) };
    const length = kept.ends - kept.begins;
    if (part === "fade_in")
      return { ...kept, fade_in: Math.max(0, Math.min(kept.fade_in + by, length - kept.fade_out)) };
    if (part === "fade_out")
      return { ...kept, fade_out: Math.max(0, Math.min(kept.fade_out - by, length - kept.fade_in)) };
    // Whichever end comes near something takes the bar there.
    const first = snapped(kept.begins + by) - kept.begins;
    const last = snapped(kept.ends + 1 + by) - 1 - kept.ends;
    const shift = first !== by ? first : last;
    return { ...kept, begins: kept.begins + shift, ends: kept.ends + shift };
  };
  const commit = (part: Part, to: Times) => {
    const done = () => setLive(null);
    if (part === "whole") {
      const by = to.begins - kept.begins;
      if (!by) return done();
      return void edits.operate({ do: "shift", thing: layer.id, by }).finally(done);
    }
    const values = stored(to, frames);
    if (JSON.stringify(values) === JSON.stringify(stored(kept, frames))) return done();
    const says = { begins: "begins", ends: "ends", fade_in: "fades in", fade_out: "fades out" }[part];
    void edits.edit(`${layer.name} ${says}`, (shot) => setOnLayer(shot, layer.id, values)).finally(done);
  };
  const slip = (by: number) => {
    if (!by || !isClip || !("starts" in layer)) return;
    void edits.edit(`${layer.name}'s clip ${by < 0 ? "earlier" : "later"}`, (shot) => {
      const latest = findLayer(shot, layer.id);
      return latest && "starts" in latest ? setOnLayer(shot, layer.id, { starts: latest.starts + by }) : [];
    });
  };
  const press = (part: Part) => (e: React.PointerEvent<HTMLElement>) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    act({ do: "choose", chosen: { kind: "layer", id: layer.id } });
    const box = e.currentTarget.closest("[data-lane]")!.getBoundingClientRect();
    const at = (x: number) => Math.round((x - box.left - EDGE) / step - 0.5);
    const from = at(e.clientX);
    const slips = part === "whole" && e.altKey;
    // What is there all the time has no time to be moved in; its ends are pulled first.
    if (part === "whole" && !slips && layer.begins === null && layer.ends === null) return;
    let to: Times = kept;
    let by = 0;
    dragFrom(
      e,
      (m) => {
        by = at(m.clientX) - from;
        to = slips ? kept : moved(part, from, from + by);
        if (!slips) setLive(to);
        if (part === "begins" || part === "ends") act({ do: "frame", frame: to[part] });
      },
      (letGo) => (!letGo ? setLive(null) : slips ? slip(by) : commit(part, to)),
    );
  };
  const keys = (part: Part) => (e: React.KeyboardEvent) => {
    const by = (e.key === "ArrowLeft" ? -1 : e.key === "ArrowRight" ? 1 : 0) * (e.shiftKey ? 10 : 1);
    if (!by) return;
    e.preventDefault();
    e.stopPropagation();
    if (part === "whole" && e.altKey) return slip(by);
    if (part === "whole") return commit(part, { ...kept, begins: kept.begins + by, ends: kept.ends + by });
    const limit = (v: number, low: number, high: number) => Math.max(low, Math.min(high, v));
    const length = kept.ends - kept.begins;
    commit(part, {
      begins: part === "begins" ? limit(kept.begins + by, 0, kept.ends) : kept.begins,
      ends: part === "ends" ? limit(kept.ends + by, kept.begins, frames - 1) : kept.ends,
      fade_in: part === "fade_in" ? limit(kept.fade_in + by, 0, length - kept.fade_out) : kept.fade_in,
      fade_out: part === "fade_out" ? limit(kept.fade_out - by, 0, length - kept.fade_in) : kept.fade_out,
    });
  };
  const slider = (part: Exclude<Part, "whole">, label: string, value: number) => ({
    role: "slider" as const,
    tabIndex: 0,
    "aria-label": `${label} of ${layer.name}`,
    "aria-valuenow": value,
    "aria-valuemin": 0,
    "aria-valuemax": frames - 1,
    "data-bar-part": part,
    onPointerDown: press(part),
    onKeyDown: keys(part),
  });
  return (
    <div data-lane className="relative border-b border-line" style={{ height: BAR }}>
      <div
        role="button"
        tabIndex={0}
        aria-label={`${layer.name}, frames ${now.begins} to ${now.ends}`}
        title={`${layer.name}, frames ${now.begins} to ${now.ends}${isClip ? ". With Alt its clip slips under it" : ""}`}
        data-bar={layer.id}
        className={`absolute top-[3px] h-[17px] cursor-grab touch-none overflow-hidden rounded-[5px] border ${chosen ? "border-tide bg-tide-2" : "border-ink-3/60 bg-line"} ${layer.shown ? "" : "opacity-50"}`}
        style={{ left, width: Math.max(right - left, 4) }}
        onPointerDown={press("whole")}
        onKeyDown={keys("whole")}
      >
        <svg
          aria-hidden
          className="pointer-events-none absolute inset-0 size-full"
          preserveAspectRatio="none"
        >
          <Fade width={now.fade_in * step} side="left" whole={right - left} />
          <Fade width={now.fade_out * step} side="right" whole={right - left} />
        </svg>
      </div>
      <i
        {...slider("begins", "Beginning", now.begins)}
        className="absolute top-[3px] h-[17px] w-[7px] cursor-ew-resize touch-none rounded-l-[5px] bg-tide/70 hover:bg-tide"
        style={{ left }}
      />
      <i
        {...slider("ends", "End", now.ends)}
        className="absolute top-[3px] h-[17px] w-[7px] -translate-x-full cursor-ew-resize touch-none rounded-r-[5px] bg-tide/70 hover:bg-tide"
        style={{ left: right }}
      />
      {chosen && (
        <>
          <i
            {...slider("fade_in", "Fade in", now.fade_in)}
            title="Pull inwards: it fades in"
            className="absolute top-0 size-[9px] cursor-ew-resize touch-none rounded-full border border-sheet bg-saffron-bar"
            style={{ left: left + 8 + now.fade_in * step }}
          />
          <i
            {...slider("fade_out", "Fade out", now.fade_out)}
            title="Pull inwards: it fades out"
            className="absolute top-0 size-[9px] -translate-x-full cursor-ew-resize touch-none rounded-full border border-sheet bg-saffron-bar"
            style={{ left: right - 8 - now.fade_out * step }}
          />
        </>
      )}
    </div>
  );
}

/** A slope where it comes or goes. */
function Fade({ width, side, whole }: { width: number; side: "left" | "right"; whole: number }) {
  if (width <= 0) return null;
  const d = side === "left" ? `M0 0H${width}L0 17z` : `M${whole} 0H${whole - width}L${whole} 17z`;
  return <path d={d} fill="var(--sheet)" fillOpacity="0.75" />;
}

/** Ends a layer before the playhead, and lets another one go on from there. */
export function useSplit() {
  const { edits } = useOpenShot();
  return useCallback(
    async (layer: Layer) => {
      const { frame } = useWorkspace.getState();
      const answer = await edits.operate({ do: "split", thing: layer.id, frame });
      if (answer?.made) act({ do: "choose", chosen: { kind: "layer", id: answer.made } });
    },
    [edits],
  );
}
