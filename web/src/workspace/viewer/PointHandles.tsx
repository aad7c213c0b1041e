import { useShallow } from "zustand/react/shallow";
import { useState } from "react";
import type { PointMotion, TrackPoint } from "~/api/client";
import { useGivePoint } from "~/workspace/actions/points";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { act, useWorkspace } from "~/workspace/store";
import { GIVEN, handleSpot, LOST, NONE, REASONS, useTracks } from "~/workspace/tracks";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { Loupe } from "~/workspace/viewer/Loupe";
import { PictureText } from "~/workspace/viewer/PictureText";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const TRAIL = 40;
type Sized = "pattern_px" | "reach_px";

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
  const hand = useGrab(mapping);
  const [drag, setDrag] = useState<{ point: string; at: Point } | null>(null);
  const [sizing, setSizing] = useState<{ point: string; what: Sized; value: number } | null>(null);
  const footage = record.document.footage!;
  const selected = chosen.kind === "motion" ? chosen.point : null;

  const holdPoint = (point: TrackPoint, spot: Point): Hold | null => {
    if (!still) return null;
    act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: point.id } });
    const inside = (at: Point): Point => ({
      x: Math.min(footage.width, Math.max(0, at.x)),
      y: Math.min(footage.height, Math.max(0, at.y)),
    });
    return {
      from: spot,
      move: (at) => setDrag({ point: point.id, at: inside(at) }),
      end: (at) => (at ? give(motion, point.id, inside(at)).finally(() => setDrag(null)) : setDrag(null)),
    };
  };

  /** The square's side or the ring beyond it; `from` is where their edge is taken hold of, right of the point. */
  const holdSize = (point: TrackPoint, what: Sized, c: Point, from: Point): Hold => {
    const [low, high] = what === "pattern_px" ? [7, 201] : [4, 400];
    let value = point[what];
    return {
      from,
      move: (at) => {
        const r = Math.hypot(at.x - c.x, at.y - c.y);
        value = Math.round(
          Math.min(high, Math.max(low, what === "pattern_px" ? r * 2 : r - point.pattern_px / 2)),
        );
        setSizing({ point: point.id, what, value });
      },
      end: (at) => {
        if (!at || value === point[what]) return setSizing(null);
        const m = record.document.motions.findIndex((x) => x.id === motion.id);
        const p = motion.points.indexOf(point);
        return edits
          .edit(`${what === "pattern_px" ? "Pattern" : "Reach"} of ${point.name}`, [
            { op: "test", path: `/motions/${m}/points/${p}/id`, value: point.id },
            { op: "replace", path: `/motions/${m}/points/${p}/${what}`, value },
          ])
          .finally(() => setSizing(null));
      },
    };
  };

  const box = hand.svg.current?.getBoundingClientRect();
  const dragScreen = drag && toScreen(mapping, drag.at);
  return (
    <>
      <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
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
                <Handle
                  at={c}
                  label={`${point.name}${lost ? `, lost: ${REASONS[spot.reason] ?? ""}` : ""}`}
                  hand={hand}
                  hold={() => holdPoint(point, spot)}
                  halo={Math.max(r, 11)}
                  onFocus={() => {
                    if (selected !== point.id)
                      act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: point.id } });
                  }}
                  data-point={point.id}
                  data-x={spot.x.toFixed(3)}
                  data-y={spot.y.toFixed(3)}
                  data-state={spot.state}
                />
              )}
              {on &&
                still &&
                (["pattern_px", "reach_px"] as const).map((what) => {
                  const edge = what === "pattern_px" ? r : outer;
                  const at = { x: c.x + edge, y: c.y };
                  return (
                    <Handle
                      key={what}
                      at={at}
                      label={what === "pattern_px" ? "Size of the pattern" : "Reach"}
                      hand={hand}
                      hold={() => holdSize(point, what, spot, { x: spot.x + edge / mapping.zoom, y: spot.y })}
                      cursor="cursor-ew-resize"
                      halo={0}
                    >
                      <GripMark
                        at={at}
                        r={4}
                        shape={what === "pattern_px" ? "square" : "round"}
                        fill={colour}
                        edge="var(--under-picture)"
                      />
                    </Handle>
                  );
                })}
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
        <div className="absolute top-3 left-1/2 flex -translate-x-1/2 items-center gap-2 rounded-full bg-(--on-picture) py-1 pr-1.5 pl-3 text-xs text-(--dark-on-picture) shadow-lg">
          {offer.message}
          <button
            className="rounded-full bg-(--grip) px-2.5 py-0.5 font-semibold text-white"
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
