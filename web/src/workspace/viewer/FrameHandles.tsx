import { useEffect, useState } from "react";
import { useShallow } from "zustand/react/shallow";
import type { DeliveryFrame } from "~/api/client";
import { useBoxes } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { type Point, valueAt, withValue } from "~/workspace/geometry";
import { round, setOnFrame } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";
import { PictureText } from "~/workspace/viewer/PictureText";

interface Box {
  x: number;
  y: number;
  w: number;
  h: number;
}

/** What captions, names and buttons lie over on most screens, as parts of an upright frame. */
const SAFE = { top: 0.11, bottom: 0.2, left: 0.055, right: 0.14 };

/** The chosen delivery frame on the picture: what is left out is dim; dragged it moves, by a corner it grows. */
export function FrameHandles({
  part,
  mapping,
  picture,
  still,
}: {
  part: DeliveryFrame;
  mapping: Mapping;
  picture: { w: number; h: number };
  still: boolean;
}) {
  const { record, edits } = useOpenShot();
  const { frame, safe, tool } = useWorkspace(
    useShallow((w) => ({ frame: w.frame, safe: w.safeAreas, tool: w.tool.kind })),
  );
  const { data } = useBoxes(record, part);
  const hand = useGrab(mapping);
  const [pulled, setPulled] = useState<Box | null>(null);
  // What was pulled stays there until the server says where it lies.
  useEffect(() => setPulled(null), [data]);
  const row = data?.boxes[frame];
  if (!row) return null;
  const [x = 0, y = 0, w = 0, h = 0] = row;
  const known: Box = { x, y, w, h };
  const box = pulled ?? known;
  const a = toScreen(mapping, box);
  const b = toScreen(mapping, { x: box.x + box.w, y: box.y + box.h });
  const [p, q] = [toScreen(mapping, { x: 0, y: 0 }), toScreen(mapping, { x: picture.w, y: picture.h })];
  const within = (at: number, side: number, room: number) =>
    !part.within ? at : side >= room ? (room - side) / 2 : Math.min(Math.max(at, 0), room - side);
  const store = (label: string, values: Partial<DeliveryFrame>) =>
    edits.edit(label, setOnFrame(record.document, part.id, values)).then((done) => {
      if (!done) setPulled(null);
    });

  const move = (): Hold => ({
    from: { x: known.x, y: known.y },
    move: (at) =>
      setPulled({ ...known, x: within(at.x, known.w, picture.w), y: within(at.y, known.h, picture.h) }),
    end: (at) => {
      if (!at) return setPulled(null);
      const dx = within(at.x, known.w, picture.w) - known.x;
      const dy = within(at.y, known.h, picture.h) - known.y;
      // What stops at the picture's edge is taken from where it is seen, not from where it would go.
      const middle = { x: known.x + known.w / 2 + dx, y: known.y + known.h / 2 + dy };
      const from = part.target ? { x: valueAt(part.x, frame) + dx, y: valueAt(part.y, frame) + dy } : middle;
      return store(`Move ${part.name}`, {
        x: withValue(part.x, frame, round(from.x)),
        y: withValue(part.y, frame, round(from.y)),
      });
    },
  });

  const grow = (corner: Point): Hold => {
    const middle = { x: known.x + known.w / 2, y: known.y + known.h / 2 };
    let factor = 1;
    return {
      from: corner,
      move: (at) => {
        const reach = Math.hypot(at.x - middle.x, at.y - middle.y);
        const now = valueAt(part.size, frame);
        factor = reach / Math.hypot(corner.x - middle.x, corner.y - middle.y);
        // The largest that fits is easily met again.
        if (Math.abs(now * factor - 100) < 3) factor = 100 / now;
        factor = Math.min(Math.max(factor, 5 / now), 1000 / now);
        const [nw, nh] = [known.w * factor, known.h * factor];
        setPulled({
          x: within(middle.x - nw / 2, nw, picture.w),
          y: within(middle.y - nh / 2, nh, picture.h),
          w: nw,
          h: nh,
        });
      },
      end: (at) => {
        if (!at) return setPulled(null);
        return store(`Size ${part.name}`, {
          size: withValue(part.size, frame, round(valueAt(part.size, frame) * factor)),
        });
      },
    };
  };

  const corners: [string, Point][] = [
    ["top left", { x: box.x, y: box.y }],
    ["top right", { x: box.x + box.w, y: box.y }],
    ["bottom right", { x: box.x + box.w, y: box.y + box.h }],
    ["bottom left", { x: box.x, y: box.y + box.h }],
  ];
  const [sw, sh] = [b.x - a.x, b.y - a.y];
  const upright = box.h > box.w * 1.05;
  const grips = still && tool === "handle";
  return (
    <svg
      ref={hand.svg}
      className="pointer-events-none absolute inset-0 size-full"
      data-testid="delivery-frame"
      data-box={[box.x, box.y, box.w, box.h].map((v) => v.toFixed(2)).join(",")}
    >
      <path
        fillRule="evenodd"
        fill="var(--under-picture)"
        fillOpacity="0.62"
        d={`M${p.x} ${p.y}H${q.x}V${q.y}H${p.x}ZM${a.x} ${a.y}H${b.x}V${b.y}H${a.x}Z`}
      />
      {safe && upright && (
        <g
          data-testid="safe-areas"
          stroke="var(--on-picture)"
          strokeOpacity="0.55"
          strokeDasharray="3 4"
          fill="none"
        >
          <rect
            x={a.x + sw * SAFE.left}
            y={a.y + sh * SAFE.top}
            width={sw * (1 - SAFE.left - SAFE.right)}
            height={sh * (1 - SAFE.top - SAFE.bottom)}
            rx="3"
          />
        </g>
      )}
      {grips && (
        <Handle
          at={{ x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 }}
          label={`Move ${part.name}`}
          hand={hand}
          hold={move}
          halo={0}
        >
          <rect x={a.x} y={a.y} width={sw} height={sh} fill="transparent" />
        </Handle>
      )}
      <rect
        x={a.x}
        y={a.y}
        width={sw}
        height={sh}
        fill="none"
        stroke="var(--under-picture)"
        strokeOpacity="0.7"
        strokeWidth="4"
      />
      <rect x={a.x} y={a.y} width={sw} height={sh} fill="none" stroke="var(--glow)" strokeWidth="1.8" />
      {grips &&
        corners.map(([where, at]) => {
          const s = toScreen(mapping, at);
          return (
            <Handle
              key={where}
              at={s}
              label={`Size of ${part.name}, ${where}`}
              hand={hand}
              hold={() => grow(at)}
              cursor={
                where === "top left" || where === "bottom right" ? "cursor-nwse-resize" : "cursor-nesw-resize"
              }
            >
              <GripMark at={s} shape="round" fill="var(--spark)" edge="var(--under-picture)" />
            </Handle>
          );
        })}
      <PictureText x={(a.x + b.x) / 2} y={Math.max(a.y - 9, 14)}>
        {data ? `${part.name} · ${data.width} × ${data.height}` : part.name}
      </PictureText>
    </svg>
  );
}
