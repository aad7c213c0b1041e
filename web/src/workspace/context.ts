import { createContext, useContext } from "react";
import type { Layer, PointMotion, ShotRecord } from "~/api/client";
import type { Edits } from "~/api/queries";
import { useWorkspace } from "~/workspace/store";

export interface OpenShot {
  shotId: string;
  record: ShotRecord;
  edits: Edits;
}

export const ShotContext = createContext<OpenShot | null>(null);

/** The open shot and the ways to change it. */
export function useOpenShot(): OpenShot {
  const shot = useContext(ShotContext);
  if (!shot) throw new Error("useOpenShot outside a workspace");
  return shot;
}

export function useChosenMotion(): PointMotion | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosen.kind === "motion" ? (record.document.motions.find((m) => m.id === chosen.id) ?? null) : null;
}

export function useChosenLayer(): Layer | null {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  return chosen.kind === "layer" ? (record.document.stack.find((l) => l.id === chosen.id) ?? null) : null;
}
