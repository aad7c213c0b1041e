import { followable } from "~/workspace/kinds";
import { createContext, useContext } from "react";
import type { DeliveryFrame, Layer, Motion, Perch, PlaneMotion, ShotRecord, Treatment } from "~/api/client";
import type { Edits } from "~/api/edits";
import { findLayer } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";

export interface OpenShot {
  shotId: string;
  record: ShotRecord;
  edits: Edits;
  /** Whether the shot is shown in its clip's own time: frames are the clip's, and it runs as it was filmed. */
  filmed: boolean;
}

export const ShotContext = createContext<OpenShot | null>(null);

/** The open shot and the ways to change it. */
export function useOpenShot(): OpenShot {
  const shot = useContext(ShotContext);
  if (!shot) throw new Error("useOpenShot outside a workspace");
  return shot;
}

export function useChosenMotion(): Motion | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosen.kind === "motion" ? (record.document.motions.find((m) => m.id === chosen.id) ?? null) : null;
}

export function useChosenTreatment(): Treatment | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosen.kind === "plate" ? (record.document.plate.find((t) => t.id === chosen.id) ?? null) : null;
}

export function useChosenLayer(): Layer | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosen.kind === "layer" ? (findLayer(record.document, chosen.id) ?? null) : null;
}

/** The delivery frame whose settings are shown. */
export function useChosenFrame(): DeliveryFrame | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosen.kind === "frame" ? (record.document.frames.find((f) => f.id === chosen.id) ?? null) : null;
}

export function useChosenPerch(): Perch | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosen.kind === "perch" ? (record.document.perches.find((p) => p.id === chosen.id) ?? null) : null;
}

/** The plane whose quad is shown: the chosen one, or the one that the chosen picture is pinned to. */
export function useShownPlane(): PlaneMotion | null {
  const { record } = useOpenShot();
  const motion = useChosenMotion();
  const layer = useChosenLayer();
  if (motion) return motion.kind === "plane" ? motion : null;
  if (layer?.kind !== "pin") return null;
  const plane = record.document.motions.find((m) => m.id === layer.plane);
  return plane?.kind === "plane" ? plane : null;
}

/** The motion that *Held still* means: the chosen one, what the chosen thing follows, or the last measured. */
export function useHeldCandidate(): Motion | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  const shot = record.document;
  const id = "id" in chosen ? chosen.id : "";
  const wanted = chosen.kind === "motion" ? id : record.leaders[id];
  const measured = followable(shot).filter((m) => m.measurement);
  return measured.find((m) => m.id === wanted) ?? measured.at(-1) ?? null;
}
