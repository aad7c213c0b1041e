import { useShallow } from "zustand/react/shallow";
import { useRef, useState } from "react";
import type { PointMotion, TrackPoint } from "~/api/client";
import { useGivePoint } from "~/workspace/actions/points";
import { useOpenShot } from "~/workspace/context";
import { dragFrom } from "~/ui/drag";
import type { Point } from "~/workspace/geometry";
import { act, useWorkspace } from "~/workspace/store";
import { GIVEN, handleSpot, LOST, NONE, REASONS, useTracks } from "~/workspace/tracks";
import { Loupe } from "~/workspace/viewer/Loupe";
import { PictureText } from "~/workspace/viewer/PictureText";
import { type Mapping, toPicture, toScreen } from "~/workspace/viewer/viewport";

const TRAIL = 40;

/** Points on the picture: a solid ring (the detail) inside a dashed ring (the reach), and the trail. */
export function PointHandles({
  motion,
  mapping,
  still = true,
}: {
  motion: PointMotion;
  mapping: Mapping;
  still?: boolean;
}) {
  const { record, edits } = useOpenShot();
  const { frame, chosen, offer } = useWorkspace(
    useShallow((w) => ({ frame: w.frame, chosen: w.chosen, offer: w.offer })),
  );
  const tracks = useTracks(motion);
  const give = useGivePoint();
  const svg = useRef<SVGSVGElement>(null);
  const [drag, setDrag] = useState<{ point: string; at: Point } | null>(null);
  const [sizing, setSizing] = useState<{
    point: string;
    what: "pattern_px" | "reach_px";
    value: number;
  } | null>(null);
  const footage = record.document.footage!;
  const selected = chosen.kind === "motion" ? chosen.point : null;

  const local = (e: { clientX: number; clientY: number }): Point => {
    const box = svg.current!.getBoundingClientRect();
    return toPicture(mapping, { x: e.clientX - box.left, y: e.clientY - box.top });
  };

  const startDrag = (e: React.PointerEvent<SVGElement>, point: TrackPoint, spot: Point) => {
    if (e.button !== 0 || !still) return;
    e.stopPropagation();
    e.preventDefault();
    (document.activeElement as HTMLElement | null)?.blur();
    act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: point.id } });
    const from = local(e);
    let at: Point | null = null;
    const move = (m: PointerEvent) => {
      const now = local(m);
      // Alt slows the point down for the last tenth of a pixel.
      const slow = m.altKey ? 0.1 : 1;
      const next = { x: spot.x + (now.x - from.x) * slow, y: spot.y + (now.y - from.y) * slow };
      if (!at && Math.hypot(now.x - from.x, now.y - from.y) * mapping.zoom < 3) return;
      at = {
        x: Math.min(footage.width, Math.max(0, next.x)),
        y: Math.min(footage.height, Math.max(0, next.y)),
      };
      setDrag({ point: point.id, at });
    };
    dragFrom(e, move, (letGo) => {
      if (at && letGo) void give(motion, point.id, at).finally(() => setDrag(null));
      else setDrag(null);
    });
  };

  const startSizing = (
    e: React.PointerEvent<SVGElement>,
    point: TrackPoint,
    what: "pattern_px" | "reach_px",
    c: Point,
  ) => {
    e.stopPropagation();
    const [low, high] = what === "pattern_px" ? [7, 201] : [4, 400];
    let value = point[what];
    const move = (m: PointerEvent) => {
      const p = local(m);
      const r = Math.hypot(p.x - c.x, p.y - c.y);
      value = Math.round(
        Math.min(high, Math.max(low, what === "pattern_px" ? r * 2 : r - point.pattern_px / 2)),
      );
      setSizing({ point: point.id, what, value });
    };
    dragFrom(e, move, (letGo) => {
      if (!letGo || value === point[what]) {
        setSizing(null);
        return;
      }
      const m = record.document.motions.findIndex((x) => x.id === motion.id);
      const p = motion.points.indexOf(point);
      void edits
        .edit(`${what === "pattern_px" ? "Pattern" : "Reach"} of ${point.name}`, [
          { op: "test", path: `/motions/${m}/points/${p}/id`, value: point.id },
          { op: "replace", path: `/motions/${m}/points/${p}/${what}`, value },
        ])
        .finally(() => setSizing(null));
    });
  };

  const box = svg.current?.getBoundingClientRect();
  const dragScreen = drag && toScreen(mapping, drag.at);
  return (
    <>
      <svg ref={svg} className="pointer-events-none absolute inset-0 size-full">
        {motion.points.map((point) => {
          const trail = [];
          for (let f = Math.max(0, frame - TRAIL); f <= frame + TRAIL; f++) {
            const spot = tracks.at(point.id, f);
            if (spot && spot.state !== LOST) {
              const s = toScreen(mapping, spot);
              trail.push(`${s.x.toFixed(1)},${s.y.toFixed(1)}`);
            }
          }
          const path = trail.join(" ");
          return (
            <g key={point.id} aria-hidden>
              <polyline points={path} fill="none" stroke="#000" strokeOpacity="0.45" strokeWidth="3.4" />
              <polyline
                points={path}
                fill="none"
                stroke="var(--glow)"
                strokeOpacity="0.9"
                strokeWidth="1.4"
              />
            </g>
          );
        })}
        {motion.points.map((point) => {
          const known = handleSpot(tracks, motion, point.id, frame);
          const spot = drag?.point === point.id ? { ...known, ...drag.at, state: GIVEN } : known;
          const c = toScreen(mapping, spot);
          const on = selected === point.id;
          const pattern =
            sizing?.point === point.id && sizing.what === "pattern_px" ? sizing.value : point.pattern_px;
          const reach =
            sizing?.point === point.id && sizing.what === "reach_px" ? sizing.value : point.reach_px;
          const r = Math.max(5, (pattern / 2) * mapping.zoom);
          const outer = r + reach * mapping.zoom;
          const lost = spot.state === LOST;
          const colour = lost ? "var(--brick-glow)" : spot.state === GIVEN ? "var(--spark)" : "var(--glow)";
          const dim = spot.state === NONE ? 0.55 : 1;
          return (
            <g key={point.id} opacity={dim}>
              {on && still && (
                <>
                  <circle
                    cx={c.x}
                    cy={c.y}
                    r={outer}
                    fill="none"
                    stroke="#000"
                    strokeOpacity="0.4"
                    strokeWidth="3.5"
                    strokeDasharray="6 6"
                  />
                  <circle
                    cx={c.x}
                    cy={c.y}
                    r={outer}
                    fill="none"
                    stroke={colour}
                    strokeWidth="1.6"
                    strokeDasharray="6 6"
                  />
                </>
              )}
              <circle
                cx={c.x}
                cy={c.y}
                r={r}
                fill="none"
                stroke="#000"
                strokeOpacity="0.5"
                strokeWidth="4.5"
              />
              <circle
                cx={c.x}
                cy={c.y}
                r={r}
                fill={colour}
                fillOpacity={on ? 0.12 : 0.04}
                stroke={colour}
                strokeWidth="2"
              />
              <circle
                cx={c.x}
                cy={c.y}
                r="1.7"
                fill="#fff"
                stroke="#000"
                strokeOpacity="0.6"
                strokeWidth="0.8"
              />
              {lost && (
                <path
                  d={`M${c.x - r} ${c.y - r}L${c.x + r} ${c.y + r}M${c.x + r} ${c.y - r}L${c.x - r} ${c.y + r}`}
                  stroke={colour}
                  strokeWidth="2"
                />
              )}
              {still && (
                <circle
                  cx={c.x}
                  cy={c.y}
                  r={Math.max(r, 11)}
                  fill="transparent"
                  className="pointer-events-auto cursor-move"
                  role="button"
                  tabIndex={0}
                  aria-label={`${point.name}${lost ? `, lost: ${REASONS[spot.reason] ?? ""}` : ""}`}
                  data-point={point.id}
                  data-x={spot.x.toFixed(3)}
                  data-y={spot.y.toFixed(3)}
                  data-state={spot.state}
                  onPointerDown={(e) => startDrag(e, point, spot)}
                  onFocus={() => {
                    if (selected !== point.id)
                      act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: point.id } });
                  }}
                />
              )}
              {on && still && (
                <>
                  <rect
                    x={c.x + r - 4}
                    y={c.y - 4}
                    width="8"
                    height="8"
                    rx="2.5"
                    fill={colour}
                    stroke="#111"
                    className="pointer-events-auto cursor-ew-resize"
                    aria-label="Size of the pattern"
                    onPointerDown={(e) => startSizing(e, point, "pattern_px", spot)}
                  />
                  <rect
                    x={c.x + outer - 4}
                    y={c.y - 4}
                    width="8"
                    height="8"
                    rx="4"
                    fill={colour}
                    stroke="#111"
                    className="pointer-events-auto cursor-ew-resize"
                    aria-label="Reach"
                    onPointerDown={(e) => startSizing(e, point, "reach_px", spot)}
                  />
                </>
              )}
              {(on || lost) && (
                <PictureText x={c.x} y={c.y - r - 8}>
                  {point.name}
                  {lost ? ` · lost: ${REASONS[spot.reason] ?? ""}` : ""}
                </PictureText>
              )}
            </g>
          );
        })}
        {offer && offer.motion === motion.id && offer.frame === frame && (
          <OfferMark at={toScreen(mapping, offer)} />
        )}
      </svg>
      {offer && offer.motion === motion.id && offer.frame === frame && (
        <div className="absolute top-3 left-1/2 flex -translate-x-1/2 items-center gap-2 rounded-full bg-[#f1eee7] py-1 pr-1.5 pl-3 text-xs text-[#22262b] shadow-lg">
          {offer.message}
          <button
            className="rounded-full bg-[#0c6670] px-2.5 py-0.5 font-semibold text-white"
            onClick={() => void give(motion, offer.point, offer)}
          >
            Move it there
          </button>
          <button
            className="rounded-full px-2 py-0.5 font-semibold hover:bg-black/10"
            onClick={() => act({ do: "offer", offer: null })}
          >
            Keep
          </button>
        </div>
      )}
      {drag && dragScreen && box && (
        <Loupe
          asset={footage.asset}
          frame={frame}
          at={drag.at}
          screen={dragScreen}
          bounds={{ w: box.width, h: box.height }}
        />
      )}
    </>
  );
}

function OfferMark({ at }: { at: Point }) {
  return (
    <g>
      <circle cx={at.x} cy={at.y} r="13" fill="none" stroke="#000" strokeOpacity="0.5" strokeWidth="4.5" />
      <circle cx={at.x} cy={at.y} r="13" fill="none" stroke="#fff" strokeWidth="2" strokeDasharray="3 3" />
      <circle cx={at.x} cy={at.y} r="2" fill="#fff" />
    </g>
  );
}
