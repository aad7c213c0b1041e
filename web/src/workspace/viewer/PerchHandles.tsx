import { useShallow } from "zustand/react/shallow";
import { useState } from "react";
import type { Perch } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { apply, type Point, valueAt, withValue } from "~/workspace/geometry";
import { round, setOnPerch } from "~/workspace/patches";
import { toSpace, useCameras, useSpaces } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { movedSpot } from "~/workspace/viewer/movedSpot";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
import { PictureText } from "~/workspace/viewer/PictureText";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const ARM = 34;

/** Perches on the picture: a bar to sit on, standing on a foot; the chosen one can be moved, turned and sized. */
export function PerchHandles({ perches, mapping }: { perches: Perch[]; mapping: Mapping }) {
  const { record, edits } = useOpenShot();
  const { frame, chosen } = useWorkspace(useShallow((w) => ({ frame: w.frame, chosen: w.chosen })));
  const spaces = useSpaces();
  const cameras = useCameras();
  const hand = useGrab(mapping);
  const [preview, setPreview] = useState<{ id: string; values: Partial<Perch> } | null>(null);

  const hold = (perch: Perch, grip: "move" | "turn", from: Point, foot: Point): Hold => {
    act({ do: "choose", chosen: { kind: "perch", id: perch.id } });
    let values: Partial<Perch> | null = null;
    return {
      from,
      move: (at, event) => {
        const camera = perch.spot ? cameras.get(perch.follow.target ?? "") : undefined;
        if (grip === "move" && perch.spot && camera) {
          values = { spot: movedSpot(camera, perch.spot, frame, at, event.shiftKey) };
        } else if (grip === "move") {
          const place = toSpace(perch.follow, spaces, frame, at);
          values = {
            x: withValue(perch.x, frame, round(place.x)),
            y: withValue(perch.y, frame, round(place.y)),
          };
        } else {
          const [a, b] = [
            Math.atan2(from.y - foot.y, from.x - foot.x),
            Math.atan2(at.y - foot.y, at.x - foot.x),
          ];
          const grown =
            Math.hypot(at.x - foot.x, at.y - foot.y) /
            Math.max(Math.hypot(from.x - foot.x, from.y - foot.y), 0.5);
          values = {
            turn: withValue(perch.turn, frame, round(valueAt(perch.turn, frame) + ((b - a) * 180) / Math.PI)),
            size: withValue(
              perch.size,
              frame,
              round(Math.min(5000, Math.max(0.1, valueAt(perch.size, frame) * grown))),
            ),
          };
        }
        setPreview({ id: perch.id, values });
      },
      end: (at) => {
        if (!at || !values) return setPreview(null);
        return edits
          .edit(
            `${grip === "move" ? "Move" : "Turn"} ${perch.name}`,
            setOnPerch(record.document, perch.id, values),
          )
          .finally(() => setPreview(null));
      },
    };
  };

  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
      {perches.map((perch) => {
        const shown = preview?.id === perch.id ? { ...perch, ...preview.values } : perch;
        const m = spaces.perch(shown, frame);
        const foot = apply(m, { x: 0, y: 0 });
        const end = apply(m, { x: ARM, y: 0 });
        const [f, a, b] = [foot, apply(m, { x: -ARM, y: 0 }), end].map((p) => toScreen(mapping, p)) as [
          Point,
          Point,
          Point,
        ];
        const on = chosen.kind === "perch" && chosen.id === perch.id;
        const colour = on ? "var(--spark)" : "var(--glow)";
        return (
          <g key={perch.id}>
            <path
              d={`M${a.x} ${a.y}L${b.x} ${b.y}M${f.x} ${f.y}v9`}
              stroke="var(--under-picture)"
              strokeOpacity="0.6"
              strokeWidth="6"
            />
            <path
              d={`M${a.x} ${a.y}L${b.x} ${b.y}M${f.x} ${f.y}v9`}
              stroke={colour}
              strokeWidth="2.6"
              strokeLinecap="round"
            />
            <Handle
              at={f}
              label={`Perch ${perch.name}`}
              hand={hand}
              hold={() => hold(perch, "move", foot, foot)}
              data-perch={perch.id}
              data-x={foot.x.toFixed(3)}
              data-y={foot.y.toFixed(3)}
            />
            {on && (
              <Handle
                at={b}
                label="Turn and size the perch"
                hand={hand}
                hold={() => hold(perch, "turn", end, foot)}
                cursor="cursor-grab"
              >
                <GripMark at={b} r={6} shape="round" fill="var(--spark)" edge="var(--under-picture)" />
              </Handle>
            )}
            <PictureText x={f.x} y={f.y + 24}>
              {perch.name}
            </PictureText>
          </g>
        );
      })}
    </svg>
  );
}
