import { useRef, useState } from "react";
import type { Layer } from "~/api/client";
import { useMatrices } from "~/api/queries";
import { dragFrom } from "~/ui/drag";
import { useOpenShot } from "~/workspace/context";
import { apply, frameFromStill, type Point, toReference, valueAt, withValue } from "~/workspace/geometry";
import { round, setOnLayer } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import { type Mapping, toPicture, toScreen } from "~/workspace/viewer/viewport";

type Grip = "move" | "turn" | number;

export function useLayerMatrices(layer: Layer): number[][] | undefined {
  const { record } = useOpenShot();
  const motion = record.document.motions.find((m) => m.id === layer.follow.motion);
  const { data } = useMatrices(
    motion?.measurement ?? null,
    layer.follow.reference_frame,
    motion?.points.map((p) => p.id) ?? [],
  );
  return motion?.measurement ? data : undefined;
}

/** Direct handles of a still: drag to move, corners to size, the stalk to turn. */
export function LayerHandles({ layer, mapping }: { layer: Layer; mapping: Mapping }) {
  const { record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const matrices = useLayerMatrices(layer);
  const svg = useRef<SVGSVGElement>(null);
  const [preview, setPreview] = useState<Partial<Layer> | null>(null);
  const shown = preview ? { ...layer, ...preview } : layer;
  const m = frameFromStill(shown, matrices, frame);
  const corners = [
    { x: 0, y: 0 },
    { x: layer.width, y: 0 },
    { x: layer.width, y: layer.height },
    { x: 0, y: layer.height },
  ].map((c) => toScreen(mapping, apply(m, c)));
  const centre = toScreen(mapping, apply(m, { x: layer.width / 2, y: layer.height / 2 }));
  const topMiddle = mid(corners[0]!, corners[1]!);
  const up = unit({ x: topMiddle.x - centre.x, y: topMiddle.y - centre.y });
  const knob = { x: topMiddle.x + up.x * 26, y: topMiddle.y + up.y * 26 };

  const start = (e: React.PointerEvent<SVGElement>, grip: Grip) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    e.preventDefault();
    (document.activeElement as HTMLElement | null)?.blur();
    const box = svg.current!.getBoundingClientRect();
    const at = (p: { clientX: number; clientY: number }) => ({
      x: p.clientX - box.left,
      y: p.clientY - box.top,
    });
    const from = at(e);
    const fromPicture = toPicture(mapping, from);
    const centrePicture = toPicture(mapping, centre);
    let next: Partial<Layer> | null = null;
    const move = (p: PointerEvent) => {
      const now = at(p);
      if (!next && Math.hypot(now.x - from.x, now.y - from.y) < 3) return;
      next = changed(grip, p, now);
      setPreview(next);
    };
    const changed = (g: Grip, p: PointerEvent, now: Point): Partial<Layer> => {
      if (g === "move") {
        const pic = toPicture(mapping, now);
        const place = {
          x: centrePicture.x + pic.x - fromPicture.x,
          y: centrePicture.y + pic.y - fromPicture.y,
        };
        const ref = toReference(layer.follow, matrices, frame, place);
        return { x: withValue(layer.x, frame, round(ref.x)), y: withValue(layer.y, frame, round(ref.y)) };
      }
      if (g === "turn") {
        const before = Math.atan2(from.y - centre.y, from.x - centre.x);
        const after = Math.atan2(now.y - centre.y, now.x - centre.x);
        let turn = valueAt(layer.turn, frame) + ((after - before) * 180) / Math.PI;
        if (p.shiftKey) turn = Math.round(turn / 15) * 15;
        turn = ((((turn + 180) % 360) + 360) % 360) - 180;
        return { turn: withValue(layer.turn, frame, round(turn)) };
      }
      const before = Math.hypot(from.x - centre.x, from.y - centre.y);
      const after = Math.hypot(now.x - centre.x, now.y - centre.y);
      const size = Math.min(5000, Math.max(0.1, (valueAt(layer.size, frame) * after) / Math.max(before, 1)));
      return { size: withValue(layer.size, frame, round(size)) };
    };
    dragFrom(e, move, (letGo) => {
      if (!next || !letGo) {
        setPreview(null);
        return;
      }
      const verb = grip === "move" ? "Move" : grip === "turn" ? "Turn" : "Size";
      void edits
        .edit(`${verb} ${layer.name}`, setOnLayer(record.document, layer.id, next))
        .finally(() => setPreview(null));
    });
  };

  const outline = corners.map((c) => `${c.x.toFixed(1)},${c.y.toFixed(1)}`).join(" ");
  const s = frameScreen(m, mapping);
  return (
    <svg ref={svg} className="pointer-events-none absolute inset-0 size-full">
      {preview && (
        <image
          href={`/api/media/${layer.asset}/original`}
          width={layer.width}
          height={layer.height}
          opacity="0.65"
          transform={`matrix(${s.join(" ")})`}
          style={{ mixBlendMode: layer.blend === "add" || layer.blend === "screen" ? "screen" : "normal" }}
        />
      )}
      <polygon
        points={outline}
        fill="transparent"
        stroke="#0b0d0e"
        strokeOpacity="0.5"
        strokeWidth="4"
        className="pointer-events-auto cursor-move"
        role="button"
        tabIndex={0}
        aria-label={`Move ${layer.name}`}
        data-layer={layer.id}
        onPointerDown={(e) => start(e, "move")}
      />
      <polygon points={outline} fill="none" stroke="var(--glow)" strokeWidth="1.6" />
      <line
        x1={topMiddle.x}
        y1={topMiddle.y}
        x2={knob.x}
        y2={knob.y}
        stroke="var(--glow)"
        strokeWidth="1.6"
      />
      <circle
        cx={knob.x}
        cy={knob.y}
        r="6.5"
        fill="#0c6670"
        stroke="#effffd"
        strokeWidth="2"
        className="pointer-events-auto cursor-grab"
        data-grip="turn"
        aria-label="Turn"
        onPointerDown={(e) => start(e, "turn")}
      />
      {corners.map((c, k) => (
        <rect
          key={k}
          x={c.x - 6.5}
          y={c.y - 6.5}
          width="13"
          height="13"
          rx="4"
          fill="#0c6670"
          stroke="#effffd"
          strokeWidth="2"
          className="pointer-events-auto cursor-nwse-resize"
          data-grip={`corner-${k}`}
          aria-label="Size"
          onPointerDown={(e) => start(e, k)}
        />
      ))}
      <circle
        cx={centre.x}
        cy={centre.y}
        r="3"
        fill="#fff"
        stroke="#000"
        strokeOpacity="0.6"
        data-testid="layer-centre"
      />
    </svg>
  );
}

const mid = (a: Point, b: Point): Point => ({ x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 });

function unit(v: Point): Point {
  const l = Math.hypot(v.x, v.y) || 1;
  return { x: v.x / l, y: v.y / l };
}

/** The SVG matrix (a b c d e f) from the still's pixels to the screen. */
function frameScreen(m: readonly number[], map: Mapping): number[] {
  const z = map.zoom;
  return [m[0]! * z, m[3]! * z, m[1]! * z, m[4]! * z, m[2]! * z + map.x, m[5]! * z + map.y];
}
