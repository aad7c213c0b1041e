import { useCallback } from "react";
import type { CameraMotion, DepthMotion, Shot } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useMeasure } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { has } from "~/workspace/kinds";
import { freshName, freshShotId } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

/** The depths of a shot. */
export const depthsOf = (shot: Shot): DepthMotion[] =>
  shot.motions.filter((m): m is DepthMotion => has("motion", m, "depth"));

/** The motion in whose room something stands that follows `target`, however many perches down; null: in none. */
export function roomUnder(shot: Shot, target: string | null | undefined): string | null {
  for (let at = target, steps = 0; at && steps <= shot.perches.length; steps++) {
    const perch = shot.perches.find((p) => p.id === at);
    if (!perch) return shot.motions.some((m) => m.id === at && has("motion", m, "room")) ? at : null;
    if (perch.spot) return perch.follow.target;
    at = perch.follow.target;
  }
  return null;
}

/** Depth by the chosen or first solved camera, measured at once; what that camera ignores is left out here as well. */
export function useAddDepth() {
  const { record, edits } = useOpenShot();
  const measure = useMeasure();
  return useCallback(async () => {
    const shot = record.document;
    const { chosen } = useWorkspace.getState();
    const cameras = shot.motions.filter((m): m is CameraMotion => m.kind === "camera");
    const solved = cameras.filter((m) => m.measurement);
    const camera = solved.find((m) => chosen.kind === "motion" && m.id === chosen.id) ?? solved[0];
    if (!camera) {
      complain(
        cameras.length
          ? `Measure ${cameras[0]!.name} first: depth goes by where it was.`
          : "First follow the camera, and measure it: depth goes by where it was.",
      );
      return;
    }
    const there = depthsOf(shot).find((m) => m.camera === camera.id);
    if (there) {
      act({ do: "choose", chosen: { kind: "motion", id: there.id, point: null } });
      return;
    }
    const id = freshShotId("depth", shot);
    const name = freshName("Depth", shot.motions);
    const value = { kind: "depth", id, name, camera: camera.id, ignored: camera.ignored };
    const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/motions/-", value }]);
    if (!done) return;
    act({ do: "choose", chosen: { kind: "motion", id, point: null } });
    await measure(id, "both", null);
  }, [record, edits, measure]);
}
