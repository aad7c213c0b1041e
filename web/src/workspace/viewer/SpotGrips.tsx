import { useShallow } from "zustand/react/shallow";
import { useState } from "react";
import type { FillLayer, Look, Num, Shot } from "~/api/client";
import { useChosenLayer, useOpenShot } from "~/workspace/context";
import { apply, invert, type Matrix, type Point, valueAt, withValue } from "~/workspace/geometry";
import { isPlaced, findLayer, round, setOnLayer } from "~/workspace/patches";
import { frameFromPicture, riding, type Spaces, useSpaces } from "~/workspace/spaces";
import { useWorkspace } from "~/workspace/store";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

interface Spot {
  label: string;
  x: string;
  y: string;
}

/** Which numbers of a look are spots in the picture. */
const SPOTS: Partial<Record<Look["kind"], Spot[]>> = {
  rays: [{ label: "Point the rays come from", x: "x", y: "y" }],
  haze: [
    { label: "Near", x: "near_x", y: "near_y" },
    { label: "Far", x: "far_x", y: "far_y" },
  ],
};

interface Props {
  spots: Spot[];
  values: Record<string, unknown>;
  space: Matrix;
  mapping: Mapping;
  onChange: (spot: Spot, values: Record<string, Num>) => Promise<unknown>;
}

/** Round grips on spots, joined by a line where there are two. */
function SpotGrips({ spots, values, space, mapping, onChange }: Props) {
  const { frame, overAll } = useWorkspace(useShallow((w) => ({ frame: w.frame, overAll: w.overAll })));
  const hand = useGrab(mapping);
  const [live, setLive] = useState<{ label: string; at: Point } | null>(null);
  const places = spots.map((s) => {
    const own = { x: valueAt(values[s.x] as Num, frame), y: valueAt(values[s.y] as Num, frame) };
    return { spot: s, at: toScreen(mapping, live?.label === s.label ? live.at : apply(space, own)) };
  });
  const hold = (spot: Spot) => ({
    from: apply(space, {
      x: valueAt(values[spot.x] as Num, frame),
      y: valueAt(values[spot.y] as Num, frame),
    }),
    move: (to: Point) => setLive({ label: spot.label, at: to }),
    end: (to: Point | null) => {
      if (!to) return setLive(null);
      const own = apply(invert(space), to);
      const over = overAll ? "move" : "here";
      const done = onChange(spot, {
        [spot.x]: withValue(values[spot.x] as Num, frame, round(own.x), over),
        [spot.y]: withValue(values[spot.y] as Num, frame, round(own.y), over),
      });
      return done.finally(() => setLive(null));
    },
  });
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
      {places.length === 2 && (
        <line
          x1={places[0]!.at.x}
          y1={places[0]!.at.y}
          x2={places[1]!.at.x}
          y2={places[1]!.at.y}
          stroke="var(--glow)"
          strokeWidth="1.6"
          strokeDasharray="6 4"
        />
      )}
      {places.map(({ spot, at }) => (
        <g key={spot.label}>
          <Handle at={at} label={spot.label} hand={hand} hold={() => hold(spot)} data-spot={spot.label}>
            <GripMark at={at} r={8} shape="round" fillOpacity={0.75} />
          </Handle>
          <text
            x={at.x + 13}
            y={at.y + 4}
            fontSize="11"
            fill="var(--grip-edge)"
            stroke="var(--under-picture)"
            strokeWidth="3"
            paintOrder="stroke"
          >
            {spot.label}
          </text>
        </g>
      ))}
    </svg>
  );
}

/** The two ends of a gradient. */
export function FillEnds({ layer, mapping }: { layer: FillLayer; mapping: Mapping }) {
  const { record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const round_ = layer.course === "round";
  return (
    <SpotGrips
      spots={[
        { label: round_ ? "Middle" : "From", x: "from_x", y: "from_y" },
        { label: round_ ? "Rim" : "To", x: "to_x", y: "to_y" },
      ]}
      values={layer as unknown as Record<string, unknown>}
      space={spaces.of(layer.follow, frame)}
      mapping={mapping}
      onChange={(spot, values) =>
        edits.edit(`${spot.label} of ${layer.name}`, setOnLayer(record.document, layer.id, values))
      }
    />
  );
}

/** The spots of the look that is open in the details, of the chosen layer or of the finish. */
export function LookSpots({ mapping }: { mapping: Mapping }) {
  const { record, edits } = useOpenShot();
  const {
    look: open,
    chosen,
    frame,
  } = useWorkspace(useShallow((w) => ({ look: w.look, chosen: w.chosen, frame: w.frame })));
  const layer = useChosenLayer();
  const spaces = useSpaces();
  const looks = layer ? layer.looks : chosen.kind === "finish" ? record.document.finish : [];
  const look =
    looks.find((l) => l.id === open) ?? (open === null && looks.length === 1 ? looks[0] : undefined);
  const spots = look ? SPOTS[look.kind] : undefined;
  if (!look || !spots || !("rides" in look)) return null;
  const own = isPlaced(layer) ? frameFromPicture(layer, spaces, frame) : null;
  return (
    <SpotGrips
      spots={spots}
      values={look as unknown as Record<string, unknown>}
      space={spaceOfLook(look, spaces, frame, own)}
      mapping={mapping}
      onChange={(spot, values) =>
        edits.edit(`${spot.label} of ${look.name}`, (latest) =>
          changed(latest, layer?.id ?? null, look.id, values),
        )
      }
    />
  );
}

function spaceOfLook(
  look: { rides: string; reference_frame: number },
  spaces: Spaces,
  frame: number,
  own: Matrix | null,
): Matrix {
  if (look.rides === "footage") return [1, 0, 0, 0, 1, 0, 0, 0, 1];
  if (look.rides === "own" && own) return own;
  const target = look.rides.startsWith("to:") ? look.rides.slice(3) : null;
  return spaces.of(riding(target, look.reference_frame), frame);
}

function changed(shot: Shot, layer: string | null, id: string, values: Record<string, Num>) {
  const on = (looks: Look[]) => looks.map((l) => (l.id === id ? ({ ...l, ...values } as Look) : l));
  if (layer === null) return [{ op: "replace" as const, path: "/finish", value: on(shot.finish) }];
  const now = findLayer(shot, layer);
  return now ? setOnLayer(shot, layer, { looks: on(now.looks) }) : [];
}
