import { useQuery } from "@tanstack/react-query";
import { type Apart, type Motion, answered, api } from "~/api/client";
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
      answered(
        api.GET("/api/shots/{shot_id}/motions/{motion_id}/apart/{other_id}", {
          params: {
            path: { shot_id: shotId, motion_id: first!.id, other_id: second!.id },
            query: { frame: at.frame, x: at.x, y: at.y },
          },
        }),
      ),
    enabled:
      first !== null && second !== undefined && first.measurement !== null && second.measurement !== null,
    placeholderData: (before: Apart | undefined) => before,
  });
  return first && second ? { first, second, told: data } : null;
}
