import type { FC } from "react";
import type { Motion } from "~/api/client";
import { kindOf } from "~/workspace/kinds";
import { DepthView } from "~/workspace/viewer/DepthView";
import { FormHandles } from "~/workspace/viewer/FormHandles";
import { MatteHandles } from "~/workspace/viewer/MatteHandles";
import { PlaneHandles } from "~/workspace/viewer/PlaneHandles";
import { PointHandles } from "~/workspace/viewer/PointHandles";
import { RoomMarks } from "~/workspace/viewer/RoomMarks";
import type { Mapping } from "~/workspace/viewer/viewport";

type Handles = FC<{ motion: Motion; mapping: Mapping; still: boolean }>;

/** What motions are taken hold of by, as their kinds say. */
const HANDLES: Partial<Record<string, unknown>> = {
  points: PointHandles,
  plane: PlaneHandles,
  form: FormHandles,
  details: RoomMarks,
  matte: MatteHandles,
  depth: DepthView,
};

/** The handles of a motion, by its kind. */
export function MotionHandles({ motion, ...more }: { motion: Motion; mapping: Mapping; still: boolean }) {
  const Of = HANDLES[kindOf("motion", motion.kind)?.handles ?? ""] as Handles | undefined;
  return Of ? <Of motion={motion} {...more} /> : null;
}
