import { useShallow } from "zustand/react/shallow";
import { useQuery } from "@tanstack/react-query";
import type { Treatment } from "~/api/client";
import { viewQuery } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { apply } from "~/workspace/geometry";
import { useView } from "~/workspace/spaces";
import { useWorkspace } from "~/workspace/store";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** While the plate's treatment is chosen: a grid to judge by, the middle, and the clip's own outline. */
export function PlateMarks({
  treatment,
  mapping,
  picture,
}: {
  treatment: Treatment;
  mapping: Mapping;
  picture: { w: number; h: number };
}) {
  const { record } = useOpenShot();
  const { frame, tool } = useWorkspace(useShallow((w) => ({ frame: w.frame, tool: w.tool.kind })));
  const view = useView();
  const { data } = useQuery(viewQuery(record));
  if (!treatment.shown || !view || !data) return null;
  const line = (points: { x: number; y: number }[]) =>
    points
      .map((p) => toScreen(mapping, p))
      .map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`)
      .join(" ");
  const { w, h } = picture;
  const corners = [
    { x: 0, y: 0 },
    { x: w, y: 0 },
    { x: w, y: h },
    { x: 0, y: h },
  ].map((p) => apply(view(frame), p));
  const thirds = [1 / 3, 2 / 3];
  const middle = toScreen(mapping, { x: w / 2, y: h / 2 });
  return (
    <svg className="pointer-events-none absolute inset-0 size-full" data-testid="plate-marks">
      {thirds.map((t) => (
        <g key={t} stroke="var(--on-picture)" strokeOpacity="0.28" strokeWidth="1">
          <polyline
            points={line([
              { x: t * w, y: 0 },
              { x: t * w, y: h },
            ])}
          />
          <polyline
            points={line([
              { x: 0, y: t * h },
              { x: w, y: t * h },
            ])}
          />
        </g>
      ))}
      <path
        d={`M${middle.x - 9} ${middle.y}h18M${middle.x} ${middle.y - 9}v18`}
        stroke={tool === "middle" ? "var(--saffron-bar)" : "var(--on-picture)"}
        strokeOpacity={tool === "middle" ? 1 : 0.6}
        strokeWidth="1.5"
      />
      <polygon
        points={line(corners)}
        fill="none"
        stroke="var(--glow)"
        strokeOpacity="0.7"
        strokeWidth="1.2"
        strokeDasharray="2 5"
      />
    </svg>
  );
}
