import type { Slip } from "~/api/client";
import { useSlips } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";

/** The slip of every follower, where it is known for where things are now. */
export function useShotSlips(): Slip[] {
  const { record, shotId } = useOpenShot();
  const { data } = useSlips(shotId, record.number);
  return data ?? [];
}

export const useLayerSlip = (layer: string): Slip | undefined =>
  useShotSlips().find((s) => s.layer === layer);
