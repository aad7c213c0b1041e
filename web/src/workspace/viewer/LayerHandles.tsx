import { type FC, useState } from "react";
import type { FillLayer, Layer, PlacedLayer } from "~/api/client";
import { useAssets } from "~/api/queries";
import { useOpenShot, useShownPlane } from "~/workspace/context";
import { apply, type Matrix, type Point, times, valueAt, withValue } from "~/workspace/geometry";
import { kindOf } from "~/workspace/kinds";
import { type LayerValues, round, setOnLayer } from "~/workspace/patches";
import { anchorOf, frameFromOwn, frameFromPicture, ownSize, toSpace, useSpaces } from "~/workspace/spaces";
import { useWorkspace } from "~/workspace/store";
import { FillEnds } from "~/workspace/viewer/SpotGrips";
import { BeamHandles } from "~/workspace/viewer/BeamHandles";
import { ModelHandles } from "~/workspace/viewer/ModelHandles";
import { PlaneHandles } from "~/workspace/viewer/PlaneHandles";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toPicture, toScreen } from "~/workspace/viewer/viewport";

type Handles = FC<{ layer: Layer; mapping: Mapping }>;

function Quad({ mapping }: { mapping: Mapping }) {
  const plane = useShownPlane();
  return plane && <PlaneHandles motion={plane} mapping={mapping} regions={false} />;
}

function Ends({ layer, mapping }: { layer: FillLayer; mapping: Mapping }) {
  return layer.course === "even" ? null : <FillEnds layer={layer} mapping={mapping} />;
}

/** What things are taken hold of by, as their kinds say. */
const HANDLES: Partial<Record<string, unknown>> = {
  box: PlacedHandles,
  quad: Quad,
  anchors: BeamHandles,
  ends: Ends,
  standing: ModelHandles,
};

/** The handles of a layer, by its kind. */
export function LayerHandles({ layer, mapping }: { layer: Layer; mapping: Mapping }) {
  const Of = HANDLES[kindOf("layer", layer.kind)?.handles ?? ""] as Handles | undefined;
  return Of ? <Of layer={layer} mapping={mapping} /> : null;
}

type Place = Pick<PlacedLayer, "x" | "y" | "turn" | "size">;
type Grip = "move" | "turn" | number;
const CORNERS = ["top left", "top right", "bottom right", "bottom left"];

/** Direct handles of a placed picture: drag to move, corners to size, the stalk to turn. */
function PlacedHandles({ layer, mapping }: { layer: PlacedLayer; mapping: Mapping }) {
  const { record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const hand = useGrab(mapping);
  const [preview, setPreview] = useState<Partial<Place> | null>(null);
  const { data: assets } = useAssets();
  // A clip has no one picture to carry along while it is dragged.
  const isStill =
    layer.kind === "still" && assets?.some((a) => a.digest === layer.asset && a.kind === "still");
  const overAll = useWorkspace((s) => s.overAll);
  const shown = preview ? { ...layer, ...preview } : layer;
  const m = frameFromOwn(shown, spaces, frame);
  const { width, height } = ownSize(layer);
  const corners = [
    { x: 0, y: 0 },
    { x: width, y: 0 },
    { x: width, y: height },
    { x: 0, y: height },
  ].map((c) => toScreen(mapping, apply(m, c)));
  // What it turns and grows about: its middle, unless its anchor lies elsewhere.
  const anchor = anchorOf(layer, frame);
  const centre = toScreen(mapping, apply(m, anchor));
  const middle = toScreen(mapping, apply(m, { x: width / 2, y: height / 2 }));
  const topMiddle = mid(corners[0]!, corners[1]!);
  const up = unit({ x: topMiddle.x - middle.x, y: topMiddle.y - middle.y });
  const knob = { x: topMiddle.x + up.x * 26, y: topMiddle.y + up.y * 26 };

  const hold = (grip: Grip, at: Point): Hold => {
    const centrePicture = toPicture(mapping, centre);
    const from = toPicture(mapping, at);
    let next: Partial<Place> | null = null;
    const over = overAll ? "move" : "here";
    const changed = (now: Point, straight: boolean): Partial<Place> => {
      if (grip === "move") {
        const place = toSpace(layer.follow, spaces, frame, now);
        return {
          x: withValue(layer.x, frame, round(place.x), over),
          y: withValue(layer.y, frame, round(place.y), over),
        };
      }
      if (grip === "turn") {
        const before = Math.atan2(from.y - centrePicture.y, from.x - centrePicture.x);
        const after = Math.atan2(now.y - centrePicture.y, now.x - centrePicture.x);
        let turn = valueAt(layer.turn, frame) + ((after - before) * 180) / Math.PI;
        if (straight) turn = Math.round(turn / 15) * 15;
        turn = ((((turn + 180) % 360) + 360) % 360) - 180;
        return { turn: withValue(layer.turn, frame, round(turn), over) };
      }
      const before = Math.hypot(from.x - centrePicture.x, from.y - centrePicture.y);
      const after = Math.hypot(now.x - centrePicture.x, now.y - centrePicture.y);
      const size = Math.min(
        5000,
        Math.max(0.1, (valueAt(layer.size, frame) * after) / Math.max(before, 0.5)),
      );
      return { size: withValue(layer.size, frame, round(size), overAll ? "scale" : "here") };
    };
    return {
      from,
      move: (to, keys) => {
        next = changed(to, keys.shiftKey);
        setPreview(next);
      },
      end: (to) => {
        if (!next || !to) return setPreview(null);
        const verb = grip === "move" ? "Move" : grip === "turn" ? "Turn" : "Size";
        return edits
          .edit(`${verb} ${layer.name}`, setOnLayer(record.document, layer.id, next as LayerValues))
          .finally(() => setPreview(null));
      },
    };
  };

  const outline = corners.map((c) => `${c.x.toFixed(1)},${c.y.toFixed(1)}`).join(" ");
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
      {preview &&
        isStill &&
        layer.kind === "still" &&
        shown.kind === "still" &&
        !layer.follow.perspective && (
          <image
            href={`/api/media/${layer.asset}/original`}
            width={layer.width}
            height={layer.height}
            opacity="0.65"
            transform={`matrix(${frameScreen(frameFromPicture(shown, spaces, frame), mapping).join(" ")})`}
            style={{ mixBlendMode: layer.blend === "add" || layer.blend === "screen" ? "screen" : "normal" }}
          />
        )}
      <Handle
        at={centre}
        label={`Move ${layer.name}`}
        hand={hand}
        hold={() => hold("move", centre)}
        halo={0}
        data-layer={layer.id}
      >
        <polygon
          points={outline}
          fill="transparent"
          stroke="var(--under-picture)"
          strokeOpacity="0.5"
          strokeWidth="4"
        />
      </Handle>
      <polygon points={outline} fill="none" stroke="var(--glow)" strokeWidth="1.6" />
      <line
        x1={topMiddle.x}
        y1={topMiddle.y}
        x2={knob.x}
        y2={knob.y}
        stroke="var(--glow)"
        strokeWidth="1.6"
      />
      <Handle
        at={knob}
        label="Turn"
        hand={hand}
        hold={() => hold("turn", knob)}
        cursor="cursor-grab"
        data-grip="turn"
      >
        <GripMark at={knob} shape="round" />
      </Handle>
      {corners.map((c, k) => (
        <Handle
          key={k}
          at={c}
          label={`Size, ${CORNERS[k]} corner`}
          hand={hand}
          hold={() => hold(k, c)}
          cursor="cursor-nwse-resize"
          data-grip={`corner-${k}`}
        >
          <GripMark at={c} />
        </Handle>
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

/** The SVG matrix (a b c d e f) from the picture's pixels to the screen, where nothing tilts. */
function frameScreen(still: Matrix, map: Mapping): number[] {
  const z = map.zoom;
  const m = map.view ? times(map.view, still) : still;
  return [m[0]! * z, m[3]! * z, m[1]! * z, m[4]! * z, m[2]! * z + map.x, m[5]! * z + map.y];
}
