import { useMemo } from "react";
import { useQueries } from "@tanstack/react-query";
import type { Anchor } from "~/api/client";
import { measurementQuery } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { apply, type Point } from "~/workspace/geometry";
import { useSpaces } from "~/workspace/spaces";

/** A place that a beam can be held by, where it is in the current frame. */
export interface Hold {
  anchor: Anchor;
  name: string;
  at: Point;
}

/** Everything a beam can be tied to: points of measured motions, and perches. */
export function useHolds(frame: number): Hold[] {
  const { record } = useOpenShot();
  const shot = record.document;
  const spaces = useSpaces();
  const measured = useQueries({
    queries: shot.motions.map((m) => measurementQuery(m.measurement)),
    combine: (results) => results.map((r) => r.data),
  });
  return useMemo(() => {
    const out: Hold[] = [];
    shot.motions.forEach((motion, k) => {
      const data = measured[k];
      if (motion.kind !== "points" || !data) return;
      for (const point of motion.points) {
        const track = data.points.find((p) => p.id === point.id);
        if (!track) continue;
        const at = { x: track.xy[2 * frame] ?? 0, y: track.xy[2 * frame + 1] ?? 0 };
        out.push({ anchor: { target: motion.id, point: point.id, x: 0, y: 0 }, name: point.name, at });
      }
    });
    for (const perch of shot.perches) {
      const at = apply(spaces.perch(perch, frame), { x: 0, y: 0 });
      out.push({ anchor: { target: perch.id, point: null, x: 0, y: 0 }, name: perch.name, at });
    }
    return out;
  }, [shot.motions, shot.perches, measured, spaces, frame]);
}

/** Where one anchor is in a frame; null while it is not known. */
export function useAnchorPlaces(anchors: Anchor[], frame: number): (Point | null)[] {
  const { record } = useOpenShot();
  const holds = useHolds(frame);
  const spaces = useSpaces();
  return anchors.map((a) => {
    const perch = record.document.perches.find((p) => p.id === a.target);
    if (perch) return apply(spaces.perch(perch, frame), a);
    const motion = record.document.motions.find((m) => m.id === a.target);
    if (motion?.kind === "plane") return apply(spaces.plane(motion, frame), a);
    return holds.find((h) => h.anchor.target === a.target && h.anchor.point === a.point)?.at ?? null;
  });
}
