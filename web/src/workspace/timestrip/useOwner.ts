import { useMemo } from "react";
import type { Motion } from "~/api/client";
import {
  useChosenFrame,
  useChosenLayer,
  useChosenMotion,
  useChosenPerch,
  useChosenTreatment,
  useOpenShot,
} from "~/workspace/context";
import { has, kindOf } from "~/workspace/kinds";
import { findLayer, setOnFrame, setOnLayer, setOnMotion, setOnPerch, setOnPlate } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import { type Moving, movingOf, type Owner } from "~/workspace/timestrip/keyed";

/** Whether a motion has numbers that may be keyed: a solved camera is put right by hand. */
const movable = (motion: Motion) =>
  Object.values(kindOf("motion", motion.kind)?.schema.properties ?? {}).some(
    (p) => p["x-plonket"]?.control === "number",
  );

/** The thing whose keys the time strip shows, its keyed numbers, and how they are changed. */
export function useOwner(): {
  owner: Owner | null;
  numbers: Moving[];
  change: (label: string, fields: string[], to: <T>(thing: T) => T) => Promise<unknown>;
} {
  const { record, edits } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  const layer = useChosenLayer();
  const treatment = useChosenTreatment();
  const perch = useChosenPerch();
  const frame = useChosenFrame();
  const { finish, footage, sound } = record.document;
  const motion = useChosenMotion();
  const owner = useMemo<Owner | null>(() => {
    if (layer) return { list: "stack", id: layer.id, name: layer.name, thing: layer };
    if (treatment) return { list: "plate", id: treatment.id, name: treatment.name, thing: treatment };
    if (perch) return { list: "perches", id: perch.id, name: perch.name, thing: perch };
    if (motion && movable(motion))
      return { list: "motions", id: motion.id, name: motion.name, thing: motion };
    if (frame) return { list: "frames", id: frame.id, name: frame.name, thing: frame };
    if (chosen.kind === "finish")
      return { list: "finish", id: "finish", name: "Finish", thing: { looks: finish } };
    if (chosen.kind === "footage" && footage)
      return { list: "footage", id: "footage", name: footage.name, thing: { footage, sound } };
    return null;
  }, [layer, treatment, perch, motion, frame, chosen.kind, finish, footage, sound]);
  // Keys of masks, and of what cuts the footage itself, are set on the clip's frames: they show in its time.
  const retimed = footage?.time != null;
  const numbers = useMemo(() => {
    const all = movingOf(owner?.thing);
    const ofFootage = layer !== null && has("layer", layer, "footage");
    // So are those of motions.
    if (retimed && owner?.list === "motions") return [];
    return retimed
      ? all.filter((n) => !n.path.includes("masks") && !(ofFootage && n.path[0] === "key"))
      : all;
  }, [owner, retimed, layer]);
  const change = (label: string, fields: string[], to: <T>(thing: T) => T) =>
    edits.edit(label, (latest) => {
      if (!owner) return [];
      if (owner.list === "finish") {
        const now = to({ looks: latest.finish });
        return [{ op: "replace", path: "/finish", value: now.looks }];
      }
      if (owner.list === "footage") {
        if (!latest.footage) return [];
        const now = to({ footage: latest.footage, sound: latest.sound });
        return fields.map((f) => ({
          op: "replace" as const,
          path: `/${f}`,
          value: now[f as keyof typeof now],
        }));
      }
      const now =
        owner.list === "stack"
          ? findLayer(latest, owner.id)
          : latest[owner.list].find((t: { id: string }) => t.id === owner.id);
      if (!now) return [];
      const next = to(now) as unknown as Record<string, unknown>;
      const values = Object.fromEntries(fields.map((f) => [f, next[f]]));
      if (owner.list === "stack") return setOnLayer(latest, owner.id, values);
      if (owner.list === "motions") return setOnMotion(latest, owner.id, values);
      if (owner.list === "frames") return setOnFrame(latest, owner.id, values);
      return owner.list === "plate"
        ? setOnPlate(latest, owner.id, values)
        : setOnPerch(latest, owner.id, values);
    });
  return { owner, numbers, change };
}
