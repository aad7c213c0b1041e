import { followable } from "~/workspace/kinds";
import { createContext, useContext } from "react";
import type { Motion, PlaneMotion, ShotRecord } from "~/api/client";
import type { Edits } from "~/api/edits";
import { useWorkspace } from "~/workspace/store";
import { chosenOf, type ThingKind } from "~/workspace/things";

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

/** The chosen thing, if it is of this kind. */
function useChosen<K extends ThingKind>(kind: K) {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosenOf(record.document, chosen, kind);
}

export const useChosenMotion = () => useChosen("motion");
export const useChosenTreatment = () => useChosen("plate");
export const useChosenLayer = () => useChosen("layer");
export const useChosenPerch = () => useChosen("perch");
/** The delivery frame whose settings are shown. */
export const useChosenFrame = () => useChosen("frame");

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
