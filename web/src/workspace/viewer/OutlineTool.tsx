import { useEffect, useState } from "react";
import { dragFrom } from "~/ui/drag";
import { useAddMend } from "~/workspace/actions/plate";
import { type Draft, ellipseIn, useAddOutline } from "~/workspace/actions/outlines";
import { useChosenMotion } from "~/workspace/context";
import { useAddMask } from "~/workspace/masks";
import { apply, invert, type Point } from "~/workspace/geometry";
import { useSpaces } from "~/workspace/spaces";
import { type Tool, HANDLE, act, useWorkspace } from "~/workspace/store";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** Drawing an outline: drag a box, or click from point to point and close on the first one (or with Enter). */
export function OutlineTool({ mapping }: { mapping: Mapping }) {
  const tool = useWorkspace((w) => w.tool);
  return tool.kind === "outline" ? <Outlining tool={tool} mapping={mapping} /> : null;
}

function Outlining({ tool, mapping }: { tool: Tool & { kind: "outline" }; mapping: Mapping }) {
  const frame = useWorkspace((w) => w.frame);
  const motion = useChosenMotion();
  const spaces = useSpaces();
  const add = useAddOutline();
  const mend = useAddMend();
  const mask = useAddMask();
  const forMotion = tool.for === "motion";
  const graded = tool.shape === "graded";
  const { svg, local } = useGrab(mapping);
  const [points, setPoints] = useState<Point[]>([]);
  const [over, setOver] = useState<Point | null>(null);
  const [box, setBox] = useState<[Point, Point] | null>(null);

  const finish = (drawn: Point[]) => {
    setPoints([]);
    setBox(null);
    if (drawn.length < (graded ? 2 : 3)) return;
    act({ do: "tool", tool: HANDLE });
    const outline: Draft[] = tool.shape === "ellipse" && drawn.length === 4 ? ellipseIn(drawn) : drawn;
    if (tool.for === "mask") {
      void mask(outline, graded ? "graded" : "outline");
      return;
    }
    if (tool.for !== "motion") {
      void mend(outline, tool.for);
      return;
    }
    // A camera or a form is drawn for only to leave something out; a surface outlined beside it is one of its own.
    const looks = motion?.kind === "camera" || motion?.kind === "form" ? motion : null;
    const plane = motion?.kind === "plane" ? motion : tool.use ? null : looks;
    const back = plane?.kind === "plane" ? invert(spaces.plane(plane, frame)) : null;
    void add(outline, tool.use, (p) => (back ? apply(back, p) : p), plane);
  };

  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (e.key === "Enter" && points.length >= 3) finish(points);
      else if (e.key === "Backspace" && points.length) setPoints(points.slice(0, -1));
      else if (e.key === "Escape" && points.length) setPoints([]);
      else return;
      e.preventDefault();
      e.stopImmediatePropagation();
    };
    window.addEventListener("keydown", onKey, { capture: true });
    return () => window.removeEventListener("keydown", onKey, { capture: true });
  });

  const press = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return;
    e.preventDefault();
    (document.activeElement as HTMLElement | null)?.blur();
    const from = local(e);
    let to: Point | null = null;
    dragFrom(
      e,
      (m) => {
        const now = local(m);
        if (points.length || (!to && Math.hypot(now.x - from.x, now.y - from.y) * mapping.zoom < 8)) return;
        to = now;
        setBox([from, now]);
      },
      (letGo) => {
        if (!letGo) setBox(null);
        else if (to) finish(graded ? [from, to] : cornersOf(from, to));
        else if (tool.shape !== "free") setBox(null);
        else if (points.length >= 3 && closeTo(mapping, points[0]!, from)) finish(points);
        else setPoints([...points, from]);
      },
    );
  };

  const shown = box ? (graded ? box : cornersOf(...box)) : points;
  const line = (over && !box ? [...shown, over] : shown).map((p) => toScreen(mapping, p));
  const colour = tool.use && forMotion ? "var(--glow)" : "var(--plum-glow)";
  const d = line.map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(" ");
  return (
    <svg
      ref={svg}
      data-testid="outline-tool"
      className="absolute inset-0 size-full cursor-crosshair touch-none"
      onPointerDown={press}
      onPointerMove={(e) => points.length && setOver(local(e))}
    >
      {shown.length > 0 && (
        <>
          {tool.shape === "ellipse" && box && <EllipseIn corners={shown.map((p) => toScreen(mapping, p))} />}
          <polygon
            points={d}
            fill={tool.use && forMotion ? "rgb(12 102 112 / 0.18)" : "rgb(107 70 148 / 0.25)"}
          />
          <polyline points={d} fill="none" stroke="#000" strokeOpacity="0.5" strokeWidth="4" />
          <polyline points={d} fill="none" stroke={colour} strokeWidth="1.8" />
          {shown.map((p, k) => {
            const s = toScreen(mapping, p);
            return (
              <circle
                key={k}
                cx={s.x}
                cy={s.y}
                r={k ? 4 : 6.5}
                fill={colour}
                stroke="var(--under-picture)"
                strokeWidth="1.5"
              />
            );
          })}
        </>
      )}
    </svg>
  );
}

const cornersOf = (a: Point, b: Point): Point[] => [
  { x: Math.min(a.x, b.x), y: Math.min(a.y, b.y) },
  { x: Math.max(a.x, b.x), y: Math.min(a.y, b.y) },
  { x: Math.max(a.x, b.x), y: Math.max(a.y, b.y) },
  { x: Math.min(a.x, b.x), y: Math.max(a.y, b.y) },
];

const closeTo = (mapping: Mapping, a: Point, b: Point) =>
  Math.hypot(a.x - b.x, a.y - b.y) * mapping.zoom < 12;

/** The ellipse that will be made of the box. */
function EllipseIn({ corners }: { corners: Point[] }) {
  const [a, , c] = corners as [Point, Point, Point, Point];
  return (
    <ellipse
      cx={(a.x + c.x) / 2}
      cy={(a.y + c.y) / 2}
      rx={Math.abs(c.x - a.x) / 2}
      ry={Math.abs(c.y - a.y) / 2}
      fill="rgb(107 70 148 / 0.25)"
      stroke="var(--plum-glow)"
      strokeWidth="1.8"
    />
  );
}
