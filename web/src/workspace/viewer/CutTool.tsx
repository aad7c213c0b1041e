import { useShallow } from "zustand/react/shallow";
import { useState } from "react";
import { type Layer, api } from "~/api/client";
import { dragFrom } from "~/ui/drag";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { round } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** Strokes over the subject of a cut-out; with Alt, or when so set, over what is not. */
export function CutTool({ layer, mapping }: { layer: Layer; mapping: Mapping }) {
  const { edits, shotId } = useOpenShot();
  const { frame, cutSubject, cutWidth } = useWorkspace(
    useShallow((w) => ({ frame: w.frame, cutSubject: w.cutSubject, cutWidth: w.cutWidth })),
  );
  const { svg, local } = useGrab(mapping);
  const [drawn, setDrawn] = useState<{ points: Point[]; subject: boolean; waiting: boolean }[]>([]);

  const send = async (points: Point[], subject: boolean) => {
    await edits.ask(() =>
      api.POST("/api/shots/{shot_id}/layers/{layer_id}/strokes", {
        params: { path: { shot_id: shotId, layer_id: layer.id } },
        body: {
          frame,
          subject,
          width: cutWidth / mapping.zoom,
          points: points.map((p): [number, number] => [round(p.x), round(p.y)]),
        },
      }),
    );
    setDrawn((all) => all.slice(1));
  };
  const press = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return;
    e.preventDefault();
    const subject = e.altKey ? !cutSubject : cutSubject;
    let points = [local(e)];
    const before = drawn;
    setDrawn([...before, { points, subject, waiting: false }]);
    dragFrom(
      e,
      (m) => {
        const at = local(m);
        const last = points.at(-1)!;
        if (Math.hypot(at.x - last.x, at.y - last.y) * mapping.zoom < 3) return;
        points = [...points, at];
        setDrawn([...before, { points, subject, waiting: false }]);
      },
      (letGo) => {
        if (!letGo) return setDrawn(before);
        setDrawn([...before, { points, subject, waiting: true }]);
        void send(points, subject);
      },
    );
  };
  return (
    <svg
      ref={svg}
      data-testid="cut-tool"
      className="absolute inset-0 size-full cursor-crosshair touch-none"
      onPointerDown={press}
    >
      {drawn.map((one, k) => (
        <polyline
          key={k}
          points={one.points
            .map((p) => toScreen(mapping, p))
            .map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`)
            .join(" ")}
          fill="none"
          stroke={one.subject ? "var(--plum-glow)" : "#efe6d2"}
          strokeDasharray={one.subject ? undefined : "2 14"}
          strokeOpacity={one.waiting ? 0.5 : 0.8}
          strokeWidth={cutWidth}
          strokeLinecap="round"
          strokeLinejoin="round"
        />
      ))}
    </svg>
  );
}
