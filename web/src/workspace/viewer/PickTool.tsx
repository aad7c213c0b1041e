import { useState } from "react";
import { get, type Layer } from "~/api/client";
import { complain } from "~/ui/Notices";
import { dragFrom } from "~/ui/drag";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { findLayer, setOnLayer } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** Picking a colour of the chosen layer: a click, or a box dragged over some of it. */
export function PickTool({ layer, mapping }: { layer: Layer; mapping: Mapping }) {
  const { shotId, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const { svg, local } = useGrab(mapping);
  const [box, setBox] = useState<[Point, Point] | null>(null);

  const take = async (a: Point, b: Point, more: boolean) => {
    const at = `x0=${Math.min(a.x, b.x)}&y0=${Math.min(a.y, b.y)}&x1=${Math.max(a.x, b.x)}&y1=${Math.max(a.y, b.y)}`;
    try {
      const { colour } = await get<{ colour: string }>(
        `/shots/${shotId}/layers/${layer.id}/colour?frame=${frame}&${at}`,
      );
      await edits.edit(`Pick ${colour}`, (latest) => {
        const now = findLayer(latest, layer.id);
        const key = now && "key" in now ? now.key : null;
        if (!key || !("colours" in key)) return [];
        return setOnLayer(latest, layer.id, { key: { ...key, colours: [...key.colours, colour] } });
      });
      // With Shift further samples can be picked at once.
      if (!more) act({ do: "tool", tool: "handle" });
    } catch (error) {
      complain(error instanceof Error ? error.message : String(error));
    }
  };

  const press = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return;
    e.preventDefault();
    const from = local(e);
    const more = e.shiftKey;
    let to = from;
    dragFrom(
      e,
      (m) => {
        to = local(m);
        setBox([from, to]);
      },
      (letGo) => {
        setBox(null);
        if (letGo) void take(from, to, more);
      },
    );
  };
  const corners = box?.map((p) => toScreen(mapping, p));
  return (
    <svg
      ref={svg}
      data-testid="pick-tool"
      className="absolute inset-0 size-full cursor-crosshair touch-none"
      onPointerDown={press}
    >
      {corners && (
        <rect
          x={Math.min(corners[0]!.x, corners[1]!.x)}
          y={Math.min(corners[0]!.y, corners[1]!.y)}
          width={Math.abs(corners[1]!.x - corners[0]!.x)}
          height={Math.abs(corners[1]!.y - corners[0]!.y)}
          fill="rgb(107 70 148 / 0.2)"
          stroke="var(--plum-glow)"
          strokeWidth="1.6"
        />
      )}
    </svg>
  );
}
