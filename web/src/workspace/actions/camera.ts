import { useCallback } from "react";
import { type CameraMotion, type RoomDetail, type RoomMotion, api } from "~/api/client";
import { useAssets } from "~/api/queries";
import { complain } from "~/ui/Notices";
import { useMeasure } from "~/workspace/actions/jobs";
import { by, length, minus, type RoomCamera, type V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { freshName, freshShotId, round, setOnMotion } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

/** A camera motion in the shot, chosen and ready to be measured: its id, or null where that did not go. */
export function useAddCamera() {
  const { record, edits } = useOpenShot();
  const { data: assets } = useAssets();
  return useCallback(async () => {
    const shot = record.document;
    const id = freshShotId("camera", shot);
    const told = assets?.find((a) => a.digest === shot.footage?.asset)?.equivalent_mm;
    const lens = told ? { knows: "equivalent", equivalent_mm: told } : {};
    const name = freshName("Camera", shot.motions);
    const value = { kind: "camera", id, name, ...lens };
    const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/motions/-", value }]);
    if (!done) return null;
    act({ do: "choose", chosen: { kind: "motion", id, point: null } });
    return id;
  }, [record, edits, assets]);
}

/** A thing solved from the points of the chosen or last point motion. */
export function useAddObject() {
  const { record, edits } = useOpenShot();
  return useCallback(async () => {
    const shot = record.document;
    const { chosen } = useWorkspace.getState();
    const points = shot.motions.filter((m) => m.kind === "points");
    const on = points.find((m) => chosen.kind === "motion" && m.id === chosen.id) ?? points.at(-1);
    if (!on) {
      complain("First follow eight details or more on the thing, as points of one motion, and measure them.");
      return;
    }
    const id = freshShotId("object", shot);
    const name = freshName("Object", shot.motions);
    const value = { kind: "object", id, name, points: [on.id] };
    const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/motions/-", value }]);
    if (done) act({ do: "choose", chosen: { kind: "motion", id, point: null } });
  }, [record, edits]);
}

/** Take details out of the solve, or bring them all back, and measure again. */
export function useSetAside() {
  const { edits } = useOpenShot();
  const measure = useMeasure();
  return useCallback(
    async (motion: CameraMotion, details: string[] | null, label: string) => {
      const done = await edits.edit(label, (latest) => {
        const now = latest.motions.find((m) => m.id === motion.id);
        if (now?.kind !== "camera") return [];
        const aside = details ? [...new Set([...now.set_aside, ...details.map(Number)])] : [];
        return setOnMotion(latest, motion.id, { set_aside: aside });
      });
      act({ do: "pick-detail", id: null });
      if (done) await measure(motion.id, "both", null);
    },
    [edits, measure],
  );
}

export type Straighten = "ground" | "origin" | "axis" | "scale" | "suggest" | "turn" | "raise";

/** Put the room straight by picked details. */
export function useStraighten() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (motion: string, does: Straighten, details: string[], amount: number | null = null) => {
      const body = { does, details: details.map(Number), amount };
      return (
        (await edits.ask(() =>
          api.POST("/api/shots/{shot_id}/motions/{motion_id}/room", {
            params: { path: { shot_id: shotId, motion_id: motion } },
            body: body,
          }),
        )) !== null
      );
    },
    [edits, shotId],
  );
}

/** Turn a camera in the frame on screen so that details lie where they belong. */
export function usePull() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    (motion: string, frame: number, details: readonly { detail: string; x: number; y: number }[]) =>
      edits.ask(() =>
        api.POST("/api/shots/{shot_id}/motions/{motion_id}/pull", {
          params: { path: { shot_id: shotId, motion_id: motion } },
          body: {
            frame,
            over: useWorkspace.getState().pullOver,
            details: details.map((d) => ({ ...d, detail: Number(d.detail) })),
          },
        }),
      ),
    [edits, shotId],
  );
}

/** A perch that lies on the flat surface through picked details. */
export function useAddSurface() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (motion: string, details: string[]) => {
      const { frame } = useWorkspace.getState();
      const done = await edits.ask(() =>
        api.POST("/api/shots/{shot_id}/motions/{motion_id}/surface", {
          params: { path: { shot_id: shotId, motion_id: motion } },
          body: { details: details.map(Number), frame },
        }),
      );
      const made = done?.document.perches.at(-1);
      if (made) act({ do: "choose", chosen: { kind: "perch", id: made.id } });
    },
    [edits, shotId],
  );
}

/** What is really there, as a box on the ground round picked details. */
export function useBoxRound() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async (motion: string, details: string[]) => {
      const { frame } = useWorkspace.getState();
      const done = await edits.ask(() =>
        api.POST("/api/shots/{shot_id}/motions/{motion_id}/box", {
          params: { path: { shot_id: shotId, motion_id: motion } },
          body: { details: details.map(Number), frame },
        }),
      );
      const made = done?.document.stack[0];
      if (made) act({ do: "choose", chosen: { kind: "layer", id: made.id } });
    },
    [edits, shotId],
  );
}

/** The share of the worst details that one press sets aside. */
const WORST = 0.1;

/** The details that fit worst: a tenth of those that count, at least three. */
export function worstOf(details: readonly RoomDetail[]): string[] {
  const kept = details.filter((d) => d.kept && !d.strong).sort((a, b) => b.error_px - a.error_px);
  return kept.slice(0, Math.max(3, Math.round(kept.length * WORST))).map((d) => d.id);
}

export type Stands = "upright" | "lies";

/** A spot's settings at a place of the room: a pixel of it is a pixel of the picture in this frame. */
export function spotAt(camera: RoomCamera, frame: number, place: V3, stands: Stands) {
  const away = length(minus(place, camera.eye(frame)));
  return {
    kind: "spot" as const,
    x: round5(place[0]),
    y: round5(place[1]),
    z: round5(place[2]),
    faces: stands === "upright" ? ("upright" as const) : ("still" as const),
    heading: 0,
    tilt: stands === "lies" ? 90 : 0,
    pixel_mm: round5((1000 * away) / camera.focal(frame)),
  };
}

const round5 = (v: number) => Math.round(v * 1e5) / 1e5;

/** A perch in the room. */
export function useAddRoomPerch() {
  const { record, edits } = useOpenShot();
  return useCallback(
    async (motion: RoomMotion, camera: RoomCamera, places: V3[], stands: Stands) => {
      const shot = record.document;
      const frame = useWorkspace.getState().frame;
      const id = freshShotId("perch", shot);
      const name = freshName("Perch", shot.perches);
      const middle = by(
        places.reduce<V3>((a, p) => [a[0] + p[0], a[1] + p[1], a[2] + p[2]], [0, 0, 0]),
        1 / places.length,
      );
      const value = {
        id,
        name,
        x: 0,
        y: 0,
        spot: spotAt(camera, frame, middle, stands),
        follow: {
          target: motion.id,
          reference_frame: frame,
          shift: true,
          turn: true,
          size: true,
          perspective: true,
          hidden: true,
          inverted: false,
          smooth: 0,
        },
      };
      const done = await edits.edit(`Add ${name}`, [{ op: "add", path: "/perches/-", value }]);
      if (done) act({ do: "choose", chosen: { kind: "perch", id } });
    },
    [record, edits],
  );
}

/** How large something is plonked in the room: so many pixels of it make a third of the picture's height. */
export const standing = (height: number, pictureHeight: number): number =>
  round(Math.min(400, (0.33 * pictureHeight * 100) / height));
