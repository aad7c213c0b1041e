import { useState } from "react";
import { dragFrom } from "~/ui/drag";
import { useOpenShot } from "~/workspace/context";
import { act } from "~/workspace/store";
import { EDGE, frameAt, type Scale, xOf } from "~/workspace/timestrip/scale";
import type { Footage } from "~/workspace/timestrip/types";

/** The ends of the range, to drag. What lies outside is dimmed. */
export function Range({ footage, scale }: { footage: Footage; scale: Scale }) {
  const { edits } = useOpenShot();
  const [live, setLive] = useState<{ in_frame: number; out_frame: number } | null>(null);
  const { in_frame, out_frame } = live ?? footage;
  const half = (scale.width - 2 * EDGE) / scale.frames / 2;
  const left = xOf(scale, in_frame) - half;
  const right = xOf(scale, out_frame) + half;
  const handle = (which: "in_frame" | "out_frame", x: number) => (
    <div
      role="slider"
      tabIndex={0}
      aria-label={which === "in_frame" ? "First frame of the range" : "Last frame of the range"}
      aria-valuenow={which === "in_frame" ? in_frame : out_frame}
      aria-valuemin={0}
      aria-valuemax={scale.frames - 1}
      data-range={which}
      className={`absolute top-[4px] h-[22px] w-2.5 cursor-ew-resize touch-none bg-tide ${which === "in_frame" ? "-translate-x-full rounded-l-md" : "rounded-r-md"}`}
      style={{ left: x }}
      onKeyDown={(e) => {
        const by = e.key === "ArrowLeft" ? -1 : e.key === "ArrowRight" ? 1 : 0;
        if (!by) return;
        e.preventDefault();
        e.stopPropagation();
        commit(which, clampEnd(which, (which === "in_frame" ? in_frame : out_frame) + by));
      }}
      onPointerDown={(e) => {
        e.stopPropagation();
        const box = e.currentTarget.parentElement!.getBoundingClientRect();
        let value = which === "in_frame" ? in_frame : out_frame;
        const move = (m: PointerEvent) => {
          value = clampEnd(which, frameAt(scale, m.clientX - box.left));
          setLive({ in_frame, out_frame, [which]: value });
          act({ do: "frame", frame: value });
        };
        dragFrom(e, move, (letGo) => (letGo ? commit(which, value) : setLive(null)));
      }}
    />
  );
  const clampEnd = (which: "in_frame" | "out_frame", f: number) =>
    which === "in_frame"
      ? Math.max(0, Math.min(f, footage.out_frame))
      : Math.min(scale.frames - 1, Math.max(f, footage.in_frame));
  const commit = (which: "in_frame" | "out_frame", value: number) => {
    if (value === footage[which]) {
      setLive(null);
      return;
    }
    void edits
      .edit(which === "in_frame" ? "Range begins" : "Range ends", [
        { op: "replace", path: `/footage/${which}`, value },
      ])
      .finally(() => setLive(null));
  };
  return (
    <>
      <i
        aria-hidden
        className="pointer-events-none absolute inset-y-0 left-0 bg-paper/75"
        style={{ width: Math.max(0, left) }}
      />
      <i
        aria-hidden
        className="pointer-events-none absolute inset-y-0 right-0 bg-paper/75"
        style={{ left: right }}
      />
      {handle("in_frame", left)}
      {handle("out_frame", right)}
    </>
  );
}
