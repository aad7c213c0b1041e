import { useQuery } from "@tanstack/react-query";
import { type Apart, get, type Motion } from "~/api/client";
import { useChosenMotion, useOpenShot } from "~/workspace/context";
import { useWorkspace } from "~/workspace/store";

/** What is set against each other: the chosen motion and another, how far apart they take a spot, frame by frame. */
export function useApart(): { first: Motion; second: Motion; told: Apart | undefined } | null {
  const { record, shotId } = useOpenShot();
  const first = useChosenMotion();
  const apart = useWorkspace((s) => s.apart);
  const second = record.document.motions.find((m) => m.id === apart?.motion);
  const footage = record.document.footage;
  const at = apart?.at ?? {
    frame: footage?.in_frame ?? 0,
    x: (footage?.width ?? 0) / 2,
    y: (footage?.height ?? 0) / 2,
  };
  const { data } = useQuery({
    queryKey: ["apart", shotId, record.spaces, first?.id, second?.id, at],
    queryFn: () =>
      get<Apart>(
        `/shots/${shotId}/motions/${first!.id}/apart/${second!.id}?frame=${at.frame}&x=${at.x}&y=${at.y}`,
      ),
    enabled:
      first !== null && second !== undefined && first.measurement !== null && second.measurement !== null,
    placeholderData: (before: Apart | undefined) => before,
  });
  return first && second ? { first, second, told: data } : null;
}
