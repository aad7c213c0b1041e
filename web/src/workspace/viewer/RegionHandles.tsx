import { useShallow } from "zustand/react/shallow";
import { useState } from "react";
import type { LookingMotion, OutlinePoint, PlaneMotion, Region } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { IDENTITY, type Matrix } from "~/workspace/geometry";
import { outlineAt, withOutline } from "~/workspace/outline";
import { setOnMotion } from "~/workspace/patches";
import { riding, type Spaces, useSpaces } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { RegionShape } from "~/workspace/viewer/RegionShape";
import type { Grab } from "~/workspace/viewer/useGrab";
import type { Mapping } from "~/workspace/viewer/viewport";

/** The regions of a plane, a camera or a form on the picture, inside an svg: outlines that are shaped by hand. */
export function RegionHandles({
  motion,
  moved,
  mapping,
  still,
  hand,
}: {
  motion: PlaneMotion | LookingMotion;
  moved: Matrix;
  mapping: Mapping;
  still: boolean;
  hand: Grab;
}) {
  const { edits } = useOpenShot();
  const { frame, chosen } = useWorkspace(useShallow((w) => ({ frame: w.frame, chosen: w.chosen })));
  const spaces = useSpaces();
  const [shape, setShape] = useState<{ region: string; points: OutlinePoint[] } | null>(null);
  return motion.regions.map((region) => (
    <RegionShape
      key={region.id}
      region={region}
      on={chosen.kind === "motion" && chosen.region === region.id}
      onChoose={() =>
        act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: null, region: region.id } })
      }
      ride={rideOf(region, motion, spaces, moved, frame)}
      mapping={mapping}
      frame={frame}
      still={still}
      points={shape?.region === region.id ? shape.points : outlineAt(region.outline, frame)}
      hand={hand}
      onShape={(points, done) => {
        setShape({ region: region.id, points });
        if (!done) return;
        void edits
          .edit(`Shape ${region.name}`, (shot) => {
            const now = shot.motions.find((m) => m.id === motion.id);
            const all = now && "regions" in now ? now.regions : motion.regions;
            const regions = all.map((r) =>
              r.id === region.id ? { ...r, outline: withOutline(r.outline, frame, points) } : r,
            );
            return setOnMotion(shot, motion.id, { regions });
          })
          .finally(() => setShape(null));
      }}
      onBroken={() => setShape(null)}
    />
  ));
}

/** What carries a region from where it is drawn to the frame. */
export function rideOf(
  region: Region,
  motion: PlaneMotion | LookingMotion,
  spaces: Spaces,
  moved: Matrix,
  frame: number,
): Matrix {
  if (region.follow === "surface") return moved;
  if (region.follow === "screen") return IDENTITY;
  return spaces.of(riding(region.follow.replace("motion:", ""), motion.reference_frame), frame);
}
