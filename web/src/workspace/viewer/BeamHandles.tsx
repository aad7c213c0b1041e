import { useState } from "react";
import type { Anchor, BeamLayer } from "~/api/client";
import { useAddBeam } from "~/workspace/actions/plonk";
import { useOpenShot } from "~/workspace/context";
import { apply, invert, type Point } from "~/workspace/geometry";
import { round, setOnLayer } from "~/workspace/patches";
import { useSpaces } from "~/workspace/spaces";
import { HANDLE, act, useWorkspace } from "~/workspace/store";
import { type Hold, useAnchorPlaces, useHolds } from "~/workspace/viewer/anchors";
import { Handle } from "~/workspace/viewer/Handle";
import { useGrab } from "~/workspace/viewer/useGrab";
import { PictureText } from "~/workspace/viewer/PictureText";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const SNAP_PX = 26;

/** Ties a beam between two places: click one hold, then the next; a click on a plane ties it there. */
export function BeamTool({ mapping }: { mapping: Mapping }) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const holds = useHolds(frame);
  const spaces = useSpaces();
  const add = useAddBeam();
  const { svg, local } = useGrab(mapping);
  const [tied, setTied] = useState<Hold[]>([]);
  const [over, setOver] = useState<Point | null>(null);
  const near = over && nearest(holds, over, mapping);

  const holdAt = (p: Point): Hold | null => {
    const hold = nearest(holds, p, mapping);
    if (hold) return hold;
    const plane = [...record.document.motions].reverse().find((m) => m.kind === "plane" && m.measurement);
    if (plane?.kind !== "plane") return null;
    const on = apply(invert(spaces.plane(plane, frame)), p);
    return {
      anchor: { target: plane.id, point: null, x: round(on.x), y: round(on.y) },
      name: plane.name,
      at: p,
    };
  };
  const click = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return;
    e.preventDefault();
    const hold = holdAt(local(e));
    if (!hold) return;
    const next = [...tied, hold];
    if (next.length < 2) return setTied(next);
    setTied([]);
    act({ do: "tool", tool: HANDLE });
    void add(next.map((h) => h.anchor));
  };
  const first = tied[0] && toScreen(mapping, tied[0].at);
  const last = over && toScreen(mapping, near?.at ?? over);
  return (
    <svg
      ref={svg}
      data-testid="beam-tool"
      className="absolute inset-0 size-full cursor-crosshair touch-none"
      onPointerDown={click}
      onPointerMove={(e) => setOver(local(e))}
    >
      {first && last && (
        <line x1={first.x} y1={first.y} x2={last.x} y2={last.y} stroke="var(--spark)" strokeWidth="2.5" />
      )}
      {holds.map((h) => {
        const p = toScreen(mapping, h.at);
        const on = h === near || tied.includes(h);
        return (
          <g key={`${h.anchor.target}:${h.anchor.point}`}>
            <HoldMark at={p} on={on} />
            <PictureText x={p.x} y={p.y - 14}>
              {h.name}
            </PictureText>
          </g>
        );
      })}
    </svg>
  );
}

function nearest(holds: Hold[], p: Point, mapping: Mapping): Hold | null {
  let best: Hold | null = null;
  let distance = SNAP_PX / mapping.zoom;
  for (const h of holds) {
    const d = Math.hypot(h.at.x - p.x, h.at.y - p.y);
    if (d < distance) [best, distance] = [h, d];
  }
  return best;
}

/** Where a beam is tied: a knot, not a ring, so that it is not taken for a point. */
function HoldMark({ at, on }: { at: Point; on: boolean }) {
  const r = on ? 8 : 6;
  return (
    <path
      d={`M${at.x} ${at.y - r}L${at.x + r} ${at.y}L${at.x} ${at.y + r}L${at.x - r} ${at.y}Z`}
      fill={on ? "var(--spark)" : "var(--under-picture)"}
      fillOpacity={on ? 1 : 0.55}
      stroke="var(--spark)"
      strokeWidth="1.8"
    />
  );
}

/** A chosen beam's knots: drag one to another hold, or about on its plane or perch. */
export function BeamHandles({ layer, mapping }: { layer: BeamLayer; mapping: Mapping }) {
  const { record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const holds = useHolds(frame);
  const places = useAnchorPlaces(layer.anchors, frame);
  const spaces = useSpaces();
  const hand = useGrab(mapping);
  const [moving, setMoving] = useState<{ k: number; at: Point } | null>(null);
  const shown = places.map((p, k) => (moving?.k === k ? moving.at : p));
  const line = shown.filter((p) => p !== null).map((p) => toScreen(mapping, p));

  const retied = (k: number, at: Point): Anchor => {
    const hold = nearest(holds, at, mapping);
    if (hold) return hold.anchor;
    const old = layer.anchors[k]!;
    const perch = record.document.perches.find((p) => p.id === old.target);
    const motion = record.document.motions.find((m) => m.id === old.target);
    const space = perch
      ? spaces.perch(perch, frame)
      : motion?.kind === "plane"
        ? spaces.plane(motion, frame)
        : null;
    if (!space) return old;
    const on = apply(invert(space), at);
    return { ...old, x: round(on.x), y: round(on.y) };
  };
  const hold = (k: number, from: Point) => ({
    from,
    move: (at: Point) => setMoving({ k, at: nearest(holds, at, mapping)?.at ?? at }),
    end: (at: Point | null) => {
      if (!at) return setMoving(null);
      const anchors = layer.anchors.map((a, i) => (i === k ? retied(k, at) : a));
      return edits
        .edit(`Tie ${layer.name}`, setOnLayer(record.document, layer.id, { anchors }))
        .finally(() => setMoving(null));
    },
  });

  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
      {moving && holds.map((h, k) => <HoldMark key={k} at={toScreen(mapping, h.at)} on={false} />)}
      <polyline
        points={line.map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(" ")}
        fill="none"
        stroke="var(--spark)"
        strokeOpacity="0.7"
        strokeDasharray="3 4"
      />
      {shown.map((p, k) => {
        if (!p) return null;
        const at = toScreen(mapping, p);
        return (
          <Handle
            key={k}
            at={at}
            label={`Knot ${k + 1} of ${layer.name}`}
            hand={hand}
            hold={() => hold(k, places[k] ?? p)}
            data-knot={k}
          >
            <HoldMark at={at} on />
          </Handle>
        );
      })}
    </svg>
  );
}
