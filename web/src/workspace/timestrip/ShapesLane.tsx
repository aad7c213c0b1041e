import { useState } from "react";
import { useShallow } from "zustand/react/shallow";
import { dragFrom } from "~/ui/drag";
import { useOpenShot } from "~/workspace/context";
import { isOutlined, type Masked, chosenOutlines, type Outlined, useMasked } from "~/workspace/masks";
import { shapesMoved, withoutShapes } from "~/workspace/outline";
import { act, useWorkspace } from "~/workspace/store";
import { frameAt, type Scale, xOf } from "~/workspace/timestrip/scale";

/** Its height in the strip. */
export const SHAPES = 24;
const TALL = 14;

/** The outlines whose drawn shapes the time strip shows: the chosen ones, or all while none is; null: none is drawn twice. */
export function useShapes(): { masked: Masked; outlines: Outlined[] } | null {
  const { record } = useOpenShot();
  const masked = useMasked();
  const { mask, too } = useWorkspace(useShallow((w) => ({ mask: w.mask, too: w.masksToo })));
  // They are drawn on the clip's frames: in a shot of another time they have no place.
  if (!masked || record.document.footage?.time) return null;
  const masks = masked.thing.masks;
  const chosen = chosenOutlines(masks, mask, too);
  const outlines = chosen.length ? chosen : masks.filter(isOutlined);
  const keyed = outlines.some((m) => m.outline.keys.filter((k) => !k.followed).length > 1);
  return keyed ? { masked, outlines } : null;
}

/** The drawn shapes of outlines on their frames: press one to go there, drag it, and with it those picked beside it. */
export function ShapesLane({
  masked,
  outlines,
  scale,
}: {
  masked: Masked;
  outlines: Outlined[];
  scale: Scale;
}) {
  const [picked, setPicked] = useState<number[]>([]);
  const [by, setBy] = useState(0);
  const at = new Map<number, Outlined[]>();
  for (const m of outlines)
    for (const k of m.outline.keys) if (!k.followed) at.set(k.frame, [...(at.get(k.frame) ?? []), m]);
  const frames = [...at.keys()].sort((a, b) => a - b);
  const ids = outlines.map((m) => m.id);
  const named = outlines.length > 1 ? `${outlines.length} shapes` : (outlines[0]?.name ?? "");

  const edit = (label: string, change: (outline: Outlined["outline"]) => Outlined["outline"]) =>
    masked.edit(label, (now) =>
      now.map((m) => (ids.includes(m.id) && isOutlined(m) ? { ...m, outline: change(m.outline) } : m)),
    );
  const within = (group: number[], far: number) =>
    Math.max(-Math.min(...group), Math.min(scale.frames - 1 - Math.max(...group), far));
  const move = (group: number[], wanted: number) => {
    const far = within(group, wanted);
    if (!far) return setBy(0);
    setPicked(group.map((f) => f + far));
    void edit(`Move keys of ${named}`, (o) => shapesMoved(o, group, far)).finally(() => setBy(0));
  };
  const press = (e: React.PointerEvent<SVGGElement>, frame: number) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    const box = e.currentTarget.ownerSVGElement!.getBoundingClientRect();
    const others = picked.filter((f) => f !== frame);
    const had = others.length < picked.length;
    const group = e.shiftKey ? [...others, frame] : had ? picked : [frame];
    let far = 0;
    let moved = false;
    dragFrom(
      e,
      (m) => {
        moved ||= Math.abs(m.clientX - e.clientX) > 3;
        if (!moved) return;
        far = within(group, frameAt(scale, m.clientX - box.left) - frame);
        setPicked(group);
        setBy(far);
      },
      (letGo) => {
        if (!letGo) return setBy(0);
        if (moved) return move(group, far);
        setPicked(e.shiftKey ? (had ? others : group) : [frame]);
        act({ do: "frame", frame });
      },
    );
  };
  const onKeyDown = (e: React.KeyboardEvent, frame: number) => {
    const group = picked.includes(frame) ? picked : [frame];
    const way = e.key === "ArrowLeft" ? -1 : e.key === "ArrowRight" ? 1 : 0;
    if (way) move(group, way * (e.shiftKey ? 10 : 1));
    else if (e.key === "Delete" || e.key === "Backspace")
      void edit(`Remove keys of ${named}`, (o) => withoutShapes(o, group)).then(() => setPicked([]));
    else if (e.key === "Enter") act({ do: "frame", frame });
    else return;
    e.preventDefault();
    e.stopPropagation();
  };

  return (
    <svg width={scale.width} height={SHAPES} className="block">
      {frames.map((frame, k) => {
        const mine = at.get(frame)!;
        const on = picked.includes(frame);
        const x = xOf(scale, on ? frame + by : frame);
        const part = TALL / mine.length;
        return (
          <g
            // By its place among them, so that one that is moved by keys keeps the focus.
            key={k}
            role="button"
            tabIndex={0}
            aria-pressed={on}
            aria-label={`Drawn at frame ${frame}: ${mine.map((m) => m.name).join(", ")}`}
            className="group/key cursor-ew-resize touch-none outline-none"
            onPointerDown={(e) => press(e, frame)}
            onKeyDown={(e) => onKeyDown(e, frame)}
          >
            <title>{`${mine.map((m) => m.name).join(", ")}, drawn at frame ${frame}. Drag to move; Shift picks more.`}</title>
            <rect x={x - 8} y="0" width="16" height={SHAPES} fill="transparent" />
            {mine.map((m, n) => (
              <rect key={m.id} x={x - 4} y={5 + n * part} width="8" height={part} fill={m.colour} />
            ))}
            <rect
              x={x - 4}
              y="5"
              width="8"
              height={TALL}
              rx="1.5"
              fill="none"
              stroke={on ? "var(--ink)" : "var(--ink-3)"}
              strokeWidth={on ? 2 : 1}
              className="group-focus-visible/key:stroke-tide group-focus-visible/key:[stroke-width:2.5]"
            />
          </g>
        );
      })}
    </svg>
  );
}
