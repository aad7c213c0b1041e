import { useState } from "react";
import { dragFrom } from "~/ui/drag";
import { useTimeChange } from "~/workspace/actions/time";
import { useOpenShot } from "~/workspace/context";
import { act, useWorkspace } from "~/workspace/store";
import { type Piece, piecesOf } from "~/workspace/time";
import { EDGE, type Scale, xOf } from "~/workspace/timestrip/scale";

export const PIECES = 26;
const LEAST = 1;

/** A stretch's speed in words. */
export function speedText(piece: Pick<Piece, "from" | "to">): string {
  const percent = (speed: number) => `${Math.round(1000 * speed) / 10}`;
  if (Math.abs(piece.from) < 1e-3 && Math.abs(piece.to) < 1e-3) return "held";
  if (Math.abs(piece.from - piece.to) < 0.02) return `${percent((piece.from + piece.to) / 2)} %`;
  return `${Math.round(100 * piece.from)} → ${Math.round(100 * piece.to)} %`;
}

/** How the footage runs, stretch by stretch: press one to choose it, drag its end to let it run slower or faster. */
export function SpeedLane({ scale }: { scale: Scale }) {
  const { record } = useOpenShot();
  const footage = record.document.footage!;
  const change = useTimeChange();
  const stretch = useWorkspace((s) => s.stretch);
  const [live, setLive] = useState<{ first: number; last: number } | null>(null);
  const step = (scale.width - 2 * EDGE) / scale.frames;
  const left = (frame: number) => xOf(scale, frame) - step / 2;
  const pieces = piecesOf(footage);
  const press = (e: React.PointerEvent<HTMLElement>, piece: Piece) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    act({ do: "choose", chosen: { kind: "footage" } });
    act({ do: "stretch", stretch: { first: piece.first, last: piece.last } });
  };
  const pull = (e: React.PointerEvent<HTMLElement>, piece: Piece) => {
    press(e, piece);
    const from = e.clientX;
    let last = piece.last;
    dragFrom(
      e,
      (m) => {
        last = Math.max(piece.first + LEAST - 1, piece.last + Math.round((m.clientX - from) / step));
        setLive({ first: piece.first, last });
      },
      (letGo) => {
        if (!letGo || last === piece.last) return setLive(null);
        void stretched(piece, last).finally(() => setLive(null));
      },
    );
  };
  const stretched = (piece: Piece, last: number) => {
    const percent = (100 * (piece.last - piece.first + 1)) / (last - piece.first + 1);
    return change({ do: "speed", first: piece.first, last: piece.last, percent });
  };
  return (
    <div
      className="relative overflow-hidden border-b border-line"
      style={{ height: PIECES }}
      aria-label="Speed"
      role="group"
    >
      {pieces.map((piece) => {
        const shown = live?.first === piece.first ? live.last : piece.last;
        const ratio = (piece.last - piece.first + 1) / (shown - piece.first + 1);
        const moving = { from: piece.from * ratio, to: piece.to * ratio };
        const held = Math.abs(piece.from) < 1e-3 && Math.abs(piece.to) < 1e-3;
        const back = piece.from + piece.to < 0;
        const chosen = stretch?.first === piece.first && stretch.last === piece.last;
        const width = (shown - piece.first + 1) * step;
        return (
          <div
            key={piece.first}
            className={`absolute inset-y-[3px] flex items-center rounded-[4px] border text-[11px] ${
              held
                ? "border-line bg-paper text-ink-2"
                : back
                  ? "border-brick/40 bg-brick-2 text-brick"
                  : "border-tide/40 bg-tide-2 text-tide"
            } ${chosen ? "z-10 ring-2 ring-ink" : ""} ${live?.first === piece.first ? "z-20 opacity-90" : ""}`}
            style={{ left: left(piece.first), width: Math.max(3, width - (piece.cut ? 1 : 0)) }}
            title={`Frames ${piece.first} to ${piece.last}: ${speedText(piece)}`}
            onPointerDown={(e) => press(e, piece)}
          >
            {piece.cut && <i aria-hidden className="absolute inset-y-[-3px] -left-[1.5px] w-[3px] bg-ink" />}
            <span className="num pointer-events-none min-w-0 flex-1 truncate px-1.5">
              {speedText(moving)}
            </span>
            <span
              role="slider"
              tabIndex={0}
              aria-label={`End of frames ${piece.first} to ${piece.last}`}
              aria-valuenow={piece.last}
              aria-valuemin={piece.first}
              aria-valuemax={scale.frames * 4}
              data-stretch={piece.first}
              className="h-full w-2 shrink-0 cursor-ew-resize touch-none rounded-r-[4px] bg-current opacity-35 hover:opacity-80"
              onPointerDown={(e) => pull(e, piece)}
              onKeyDown={(e) => {
                const by =
                  (e.key === "ArrowLeft" ? -1 : e.key === "ArrowRight" ? 1 : 0) * (e.shiftKey ? 10 : 1);
                if (!by) return;
                e.preventDefault();
                e.stopPropagation();
                void stretched(piece, Math.max(piece.first, piece.last + by));
              }}
            />
          </div>
        );
      })}
    </div>
  );
}
