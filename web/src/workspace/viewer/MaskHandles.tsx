import { useShallow } from "zustand/react/shallow";
import { useState } from "react";
import type { GradedMask, Mask, OutlinePoint } from "~/api/client";
import { apply, invert, type Matrix, type Point, valueAt, withValue } from "~/workspace/geometry";
import { chosenOutlines, isOutlined, type Masked, shapeMoved, useMasked } from "~/workspace/masks";
import { outlineAt, withOutline } from "~/workspace/outline";
import { round } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { RegionShape } from "~/workspace/viewer/RegionShape";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { type Grab, useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** The masks of the chosen thing over the picture; the chosen one with its points. */
export function MaskHandles({ mapping, still }: { mapping: Mapping; still: boolean }) {
  const masked = useMasked();
  const { chosen, too, frame } = useWorkspace(
    useShallow((w) => ({ chosen: w.mask, too: w.masksToo, frame: w.frame })),
  );
  const hand = useGrab(mapping);
  // Shapes that are being changed, by their masks.
  const [shapes, setShapes] = useState<Record<string, OutlinePoint[]>>({});
  const settle = () => setShapes({});
  if (!masked?.thing.masks.length) return null;
  const masks = masked.thing.masks;
  const selected = masks.find((m) => m.id === chosen) ?? (masks.length === 1 ? masks[0] : undefined);
  // The chosen one last, so that its points lie on top.
  const ordered = [...masks].sort((a, b) => Number(a === selected) - Number(b === selected));
  const movers = chosenOutlines(masks, chosen, too);
  const moved = (by: Point) =>
    Object.fromEntries(movers.map((m) => [m.id, shapeMoved(m, masked.space(m, frame), frame, by)]));
  const main = movers.find((m) => m === selected);
  const middle =
    main && middleOf(shapes[main.id] ?? outlineAt(main.outline, frame), masked.space(main, frame));
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full" data-testid="masks">
      {ordered.map((m) => {
        const common = {
          ride: masked.space(m, frame),
          mapping,
          hand,
          on: m === selected,
          still,
          onChoose: (add = false) => act({ do: "mask", id: m.id, add }),
        };
        if ("motion" in m) return null;
        if ("from_x" in m) return <GradedShape key={m.id} masked={masked} mask={m} {...common} />;
        return (
          <RegionShape
            key={m.id}
            region={{ id: m.id, name: m.name, use: false }}
            look={{
              colour: m.colour,
              faded: !m.shown || (m.mode === "subtract") !== m.inverted,
              feather: true,
              along: too.includes(m.id),
            }}
            {...common}
            frame={frame}
            points={shapes[m.id] ?? outlineAt(m.outline, frame)}
            onShape={(points, done) => {
              setShapes({ [m.id]: points });
              if (done)
                void change(masked, `Shape ${m.name}`, m.id, (now) =>
                  "outline" in now ? { outline: withOutline(now.outline, frame, points) } : {},
                ).finally(settle);
            }}
            onBroken={settle}
          />
        );
      })}
      {main && middle && still && (
        <Handle
          at={toScreen(mapping, middle)}
          label={movers.length > 1 ? `Grip of ${movers.length} shapes` : "Grip of the whole shape"}
          title="Moves it as a whole in this frame. Shift-click other masks to move them along."
          hand={hand}
          hold={() => ({
            from: middle,
            move: (at) => setShapes(moved({ x: at.x - middle.x, y: at.y - middle.y })),
            end: (at) => {
              if (!at) return settle();
              const to = moved({ x: at.x - middle.x, y: at.y - middle.y });
              const named = movers.length > 1 ? `${movers.length} shapes` : main.name;
              return masked
                .edit(`Move ${named}`, (now) =>
                  now.map((m) => {
                    const points = to[m.id];
                    return points && isOutlined(m)
                      ? { ...m, outline: withOutline(m.outline, frame, points) }
                      : m;
                  }),
                )
                .finally(settle);
            },
          })}
        >
          <GripMark at={toScreen(mapping, middle)} r={6} fill={main.colour} edge="var(--under-picture)" />
        </Handle>
      )}
    </svg>
  );
}

/** The middle of an outline's points, in pixels of the clip. */
function middleOf(points: OutlinePoint[], space: Matrix): Point {
  const on = points.map((p) => apply(space, p));
  const mean = (of: (p: Point) => number) => on.reduce((sum, p) => sum + of(p), 0) / on.length;
  return { x: mean((p) => p.x), y: mean((p) => p.y) };
}

const change = (masked: Masked, label: string, id: string, values: (now: Mask) => object) =>
  masked.edit(label, (masks) => masks.map((m) => (m.id === id ? ({ ...m, ...values(m) } as Mask) : m)));

interface GradedProps {
  masked: Masked;
  mask: GradedMask;
  ride: Matrix;
  mapping: Mapping;
  hand: Grab;
  on: boolean;
  still: boolean;
  onChoose: () => void;
}

/** A graded mask: full at the disc, gone at the ring. */
function GradedShape({ masked, mask, ride, mapping, hand, on, still, onChoose }: GradedProps) {
  const frame = useWorkspace((s) => s.frame);
  const [moved, setMoved] = useState<{ end: "from" | "to"; at: Point } | null>(null);
  const spot = (end: "from" | "to"): Point =>
    moved?.end === end
      ? moved.at
      : { x: valueAt(mask[`${end}_x`], frame), y: valueAt(mask[`${end}_y`], frame) };
  const [a, b] = [spot("from"), spot("to")];
  const [from, to] = [a, b].map((p) => toScreen(mapping, apply(ride, p))) as [Point, Point];
  const along = { x: to.x - from.x, y: to.y - from.y };
  const length = Math.hypot(along.x, along.y) || 1;
  const side = { x: (-along.y / length) * 2000, y: (along.x / length) * 2000 };
  const line = (p: Point) => ({ x1: p.x - side.x, y1: p.y - side.y, x2: p.x + side.x, y2: p.y + side.y });
  const hold = (end: "from" | "to") => {
    onChoose();
    const back = invert(ride);
    return {
      from: apply(ride, spot(end)),
      move: (at: Point) => setMoved({ end, at: apply(back, at) }),
      end: (at: Point | null) => {
        if (!at) return setMoved(null);
        const p = apply(back, at);
        return change(masked, `Move ${mask.name}`, mask.id, (now) =>
          now.kind === "graded"
            ? {
                [`${end}_x`]: withValue(now[`${end}_x`], frame, round(p.x)),
                [`${end}_y`]: withValue(now[`${end}_y`], frame, round(p.y)),
              }
            : {},
        ).finally(() => setMoved(null));
      },
    };
  };
  return (
    <g data-mask={mask.id} opacity={mask.shown ? 1 : 0.45}>
      <line {...line(from)} stroke={mask.colour} strokeWidth={on ? 1.6 : 1} />
      <line {...line(to)} stroke={mask.colour} strokeWidth={on ? 1.6 : 1} strokeDasharray="2 5" />
      <line x1={from.x} y1={from.y} x2={to.x} y2={to.y} stroke={mask.colour} strokeOpacity="0.6" />
      {still &&
        (["from", "to"] as const).map((end) => {
          const at = end === "from" ? from : to;
          return (
            <Handle
              key={end}
              at={at}
              label={`${mask.name}: where it is ${end === "from" ? "full" : "gone"}`}
              hand={hand}
              hold={() => hold(end)}
            >
              <GripMark
                at={at}
                r={7}
                shape="round"
                fill={end === "from" ? mask.colour : "var(--under-picture)"}
                fillOpacity={end === "from" ? 1 : 0.5}
                edge={mask.colour}
              />
            </Handle>
          );
        })}
    </g>
  );
}
