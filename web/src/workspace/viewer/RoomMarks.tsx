import { useShallow } from "zustand/react/shallow";
import type { CameraMotion, ObjectMotion, Perch, RoomDetail } from "~/api/client";
import { useMeasurement } from "~/api/queries";
import { by, plus, type RoomCamera, spotAxes, type V3 } from "~/workspace/camera";
import { IDENTITY, type Point, valueAt } from "~/workspace/geometry";
import { useCameras } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { PullGrips } from "~/workspace/viewer/PullGrips";
import { RegionHandles } from "~/workspace/viewer/RegionHandles";
import { Sweep, type Swept } from "~/workspace/viewer/Sweep";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const NEEDS_A_LOOK_PX = 1;

/** How much a detail is trusted: it fits, it fits badly, or it does not belong to the room. */
export const trustOf = (d: RoomDetail): "good" | "poor" | "out" =>
  !d.kept ? "out" : d.error_px > NEEDS_A_LOOK_PX ? "poor" : "good";

/** Where a detail is seen in a frame, in pixels. */
export function seenAt(d: RoomDetail, frame: number): Point | null {
  const k = frame - d.first;
  const [x, y] = [d.xy[2 * k], d.xy[2 * k + 1]];
  return k < 0 || x === undefined || y === undefined || x < 0 ? null : { x: x / 10, y: y / 10 };
}

/** A solved camera over the picture: details by trust, the ground as a grid, boxes to judge by. */
export function RoomMarks({
  motion,
  mapping,
  still,
}: {
  motion: CameraMotion | ObjectMotion;
  mapping: Mapping;
  still: boolean;
}) {
  const { data } = useMeasurement(motion.measurement);
  const { frame, picked, room } = useWorkspace(
    useShallow((w) => ({ frame: w.frame, picked: w.picked, room: w.room })),
  );
  const camera = useCameras().get(motion.id);
  const hand = useGrab(mapping);
  const details = (motion.measurement && data?.camera?.details) || [];
  const chosen = details.filter((d) => picked.includes(d.id));
  const at = (p: Point) => toScreen(mapping, p);
  const sweep = ({ low, high }: Swept) => {
    const within = details.filter((d) => {
      const seen = seenAt(d, frame);
      const p = seen && at(seen);
      return d.kept && p && p.x >= low.x && p.x <= high.x && p.y >= low.y && p.y <= high.y;
    });
    act({ do: "pick-details", ids: within.map((d) => d.id) });
  };
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full" data-testid="room-marks">
      {still && room.details && <Sweep end={sweep} />}
      {motion.kind === "camera" && (
        <RegionHandles motion={motion} moved={IDENTITY} mapping={mapping} still={still} hand={hand} />
      )}
      {camera && room.ground && camera.full && <Ground camera={camera} frame={frame} at={at} />}
      {camera &&
        room.boxes &&
        camera.full &&
        chosen.map((d) => <TestBox key={d.id} camera={camera} frame={frame} at={at} d={d} />)}
      {(room.details ? details : chosen).map((d) => {
        const seen = seenAt(d, frame);
        if (!seen) return null;
        const on = picked.includes(d.id);
        if (!room.details && !on) return null;
        return <Mark key={d.id} detail={d} at={at(seen)} on={on} still={still} />;
      })}
      {camera && motion.kind === "camera" && room.pull && still && (
        <PullGrips
          motion={motion}
          camera={camera}
          details={chosen.filter((d) => d.kept)}
          seen={seenAt}
          at={at}
          hand={hand}
        />
      )}
    </svg>
  );
}

function Mark({ detail, at, on, still }: { detail: RoomDetail; at: Point; on: boolean; still: boolean }) {
  const trust = trustOf(detail);
  const said = trust === "out" ? "does not fit the room" : `off by ${detail.error_px.toFixed(2)} px`;
  const colour = trust === "good" ? "var(--tide-on-well, #59c2bd)" : trust === "poor" ? "#f08a6c" : "#c9c5bc";
  return (
    <g
      transform={`translate(${at.x} ${at.y})`}
      role="button"
      tabIndex={-1}
      aria-label={`Detail, ${said}`}
      aria-pressed={on}
      data-detail={detail.id}
      data-trust={trust}
      style={{ pointerEvents: still ? "auto" : "none", cursor: "pointer" }}
      onPointerDown={(e) => {
        e.stopPropagation();
        act({ do: "pick-detail", id: detail.id, add: e.shiftKey || e.ctrlKey || e.metaKey });
      }}
    >
      <title>{`${said}; click to pick, with Shift several; Shift and drag picks all in a box`}</title>
      <circle r="7" fill="transparent" />
      {on && <circle r="7.5" fill="none" stroke="var(--spark)" strokeWidth="2.2" />}
      <g stroke="rgba(0,0,0,.55)" strokeWidth="3.4" fill="none">
        <Shape trust={trust} />
      </g>
      <g stroke={colour} strokeWidth="1.6" fill="none">
        <Shape trust={trust} />
      </g>
    </g>
  );
}

/** Shapes as well as colours: a dot in a ring fits, an open square fits badly, a small dash is set aside. */
function Shape({ trust }: { trust: "good" | "poor" | "out" }) {
  if (trust === "good") return <circle r="2.1" />;
  if (trust === "poor") return <rect x="-3.4" y="-3.4" width="6.8" height="6.8" />;
  return <path d="M-3 0h6" strokeDasharray="1.5 1.5" />;
}

interface Drawn {
  camera: RoomCamera;
  frame: number;
  at: (p: Point) => Point;
}

/** A grid on the ground before the camera, a tenth of a room apart, its x and z axes through the origin marked. */
function Ground({ camera, frame, at }: Drawn) {
  const step = gridStep(camera, frame);
  const lines: { a: V3; b: V3; axis: boolean }[] = [];
  const reach = 10;
  for (let k = -reach; k <= reach; k++) {
    lines.push({ a: [k * step, 0, -reach * step], b: [k * step, 0, reach * step], axis: k === 0 });
    lines.push({ a: [-reach * step, 0, k * step], b: [reach * step, 0, k * step], axis: k === 0 });
  }
  return (
    <g fill="none" data-testid="ground">
      {lines.map((l, k) => (
        <path
          key={k}
          d={polyline(camera, frame, at, l.a, l.b)}
          stroke={l.axis ? "var(--spark)" : "#8fd8d4"}
          strokeOpacity={l.axis ? 0.95 : 0.55}
          strokeWidth={l.axis ? 1.6 : 1}
        />
      ))}
      <Label camera={camera} frame={frame} at={at} place={[step, 0, 0]} text={`x ${lengthText(step)}`} />
      <Label camera={camera} frame={frame} at={at} place={[0, 0, step]} text="z" />
    </g>
  );
}

/** The flat surface that a perch lies on or stands in, as a grid of its own: eight steps each way. */
export function SurfaceGrid({ perch, mapping }: { perch: Perch; mapping: Mapping }) {
  const frame = useWorkspace((s) => s.frame);
  const camera = useCameras().get(perch.follow.target ?? "");
  const spot = perch.spot;
  if (!camera || !spot || spot.faces !== "still") return null;
  const centre: V3 = [valueAt(spot.x, frame), valueAt(spot.y, frame), valueAt(spot.z, frame)];
  const [right, up] = spotAxes(camera, spot, frame, centre);
  // A step is sixteen of its own pixels: as large in the picture wherever it lies.
  const step = (16 * valueAt(spot.pixel_mm, frame)) / 1000;
  const at = (p: Point) => toScreen(mapping, p);
  const place = (u: number, v: number): V3 => plus(centre, plus(by(right, u * step), by(up, v * step)));
  const lines = Array.from({ length: 17 }, (_, k) => k - 8).flatMap((k) => [
    [place(k, -8), place(k, 8)] as const,
    [place(-8, k), place(8, k)] as const,
  ]);
  return (
    <svg className="pointer-events-none absolute inset-0 size-full" data-testid="surface-grid">
      {lines.map(([a, b], k) => (
        <path
          key={k}
          d={polyline(camera, frame, at, a, b)}
          fill="none"
          stroke="#8fd8d4"
          strokeOpacity="0.6"
          strokeWidth="1"
        />
      ))}
    </svg>
  );
}

function Label({ camera, frame, at, place, text }: Drawn & { place: V3; text: string }) {
  const p = camera.project(frame, place);
  if (!p) return null;
  const s = at(p);
  return (
    <text
      x={s.x + 5}
      y={s.y - 4}
      fontSize="11"
      fill="#fff"
      stroke="rgba(0,0,0,.65)"
      strokeWidth="2.6"
      paintOrder="stroke"
    >
      {text}
    </text>
  );
}

export const lengthText = (m: number): string =>
  m >= 1 ? `${+m.toFixed(2)} m` : m >= 0.01 ? `${+(m * 100).toFixed(1)} cm` : `${+(m * 1000).toFixed(1)} mm`;

/** A round distance between grid lines, about a twelfth of how far the camera is from the origin. */
function gridStep(camera: RoomCamera, frame: number): number {
  const eye = camera.eye(frame);
  const wanted = Math.max(Math.hypot(...eye), 1e-4) / 10;
  const ten = 10 ** Math.floor(Math.log10(wanted));
  return [1, 2, 5, 10].map((m) => m * ten).find((s) => s >= wanted) ?? wanted;
}

/** A line of the room, bent as the lens bends it; parts behind the camera are left out. */
function polyline(camera: RoomCamera, frame: number, at: (p: Point) => Point, a: V3, b: V3): string {
  const parts: string[] = [];
  let pen = false;
  const pieces = 24;
  for (let k = 0; k <= pieces; k++) {
    const u = k / pieces;
    const p = camera.project(frame, [
      a[0] + u * (b[0] - a[0]),
      a[1] + u * (b[1] - a[1]),
      a[2] + u * (b[2] - a[2]),
    ]);
    if (!p || Math.abs(p.x) > 2e4 || Math.abs(p.y) > 2e4) {
      pen = false;
      continue;
    }
    const s = at(p);
    parts.push(`${pen ? "L" : "M"}${s.x.toFixed(1)} ${s.y.toFixed(1)}`);
    pen = true;
  }
  return parts.join("");
}

const EDGES = [
  [0, 1], [1, 3], [3, 2], [2, 0], [4, 5], [5, 7], [7, 6], [6, 4], [0, 4], [1, 5], [2, 6], [3, 7],
] as const; // prettier-ignore

/** A box standing on a picked detail: where it swims, the solve is off there. */
function TestBox({ camera, frame, at, d }: Drawn & { d: RoomDetail }) {
  const foot = camera.inRoom(d.place);
  const side = gridStep(camera, frame) / 2;
  const corners = [0, 1, 2, 3, 4, 5, 6, 7].map((k): V3 =>
    plus(foot, [((k & 1) - 0.5) * side, k & 4 ? side : 0, (((k >> 1) & 1) - 0.5) * side]),
  );
  return (
    <g fill="none" stroke="#fff" strokeWidth="1.4" data-testid="test-box">
      {EDGES.map(([a, b]) => (
        <path key={`${a}-${b}`} d={polyline(camera, frame, at, corners[a]!, corners[b]!)} />
      ))}
    </g>
  );
}
