import { post } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useAddCamera } from "~/workspace/actions/camera";
import { pickText } from "~/workspace/actions/files";
import { useOpenShot } from "~/workspace/context";
import { VerbMenu } from "~/workspace/runsheet/VerbMenu";
import { act } from "~/workspace/store";

/** What kind of movement to follow. */
export function FollowMenu({ disabled }: { disabled: boolean }) {
  const { shotId } = useOpenShot();
  const start = (tool: "add-point" | "outline") => {
    act({ do: "choose", chosen: { kind: "none" } });
    act({ do: "tool", tool });
  };
  const addCamera = useAddCamera();
  const rows: { label: string; hint: string; run: () => void }[] = [
    { label: "A surface", hint: "outline it; things tilt with it", run: () => start("outline") },
    { label: "A detail", hint: "click on it; one or more points", run: () => start("add-point") },
    {
      label: "The camera",
      hint: "the whole set in 3D; finds details by itself",
      run: () => void addCamera(),
    },
    {
      label: "What would be good?",
      hint: "a look at the clip",
      run: () => act({ do: "open", what: "advice", on: true }),
    },
    {
      label: "From a file …",
      hint: "points, plane or corners",
      run: () =>
        pickText(".csv,.json", (name, text) => {
          post(`/shots/${shotId}/motions/import`, { name, text }).catch((e: Error) => complain(e.message));
        }),
    },
  ];
  return <VerbMenu verb="Follow" disabled={disabled} rows={rows} />;
}
