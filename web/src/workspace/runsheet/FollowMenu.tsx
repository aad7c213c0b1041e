import { api } from "~/api/client";
import { useAddCamera, useAddObject } from "~/workspace/actions/camera";
import { pickContent } from "~/workspace/actions/files";
import { useAddDepth } from "~/workspace/actions/depth";
import { useAddForm } from "~/workspace/actions/forms";
import { useOpenShot } from "~/workspace/context";
import { VerbMenu } from "~/workspace/runsheet/VerbMenu";
import { act, outlining } from "~/workspace/store";

/** What kind of movement to follow. */
export function FollowMenu({ disabled }: { disabled: boolean }) {
  const { edits, shotId } = useOpenShot();
  const start = (kind: "add-point" | "outline" | "pick-out") => {
    act({ do: "choose", chosen: { kind: "none" } });
    act({ do: "tool", tool: kind === "outline" ? outlining() : { kind } });
  };
  const addCamera = useAddCamera();
  const addObject = useAddObject();
  const addForm = useAddForm();
  const addDepth = useAddDepth();
  const rows: { label: string; hint: string; run: () => void }[] = [
    { label: "A surface", hint: "outline it; things tilt with it", run: () => start("outline") },
    { label: "A detail", hint: "click on it; one or more points", run: () => start("add-point") },
    {
      label: "The camera",
      hint: "the whole set in 3D; finds details by itself",
      run: () => void addCamera(),
    },
    {
      label: "A thing, by its form",
      hint: "a box, cylinder or plane tugged into place",
      run: () => void addForm(),
    },
    {
      label: "A thing, by its marks",
      hint: "from eight points that are followed on it",
      run: () => void addObject(),
    },
    {
      label: "A matte",
      hint: "click on a person or a thing: what it covers",
      run: () => start("pick-out"),
    },
    {
      label: "How far things are",
      hint: "depth of a solved camera's clip: it hides what stands behind",
      run: () => void addDepth(),
    },
    {
      label: "What would be good?",
      hint: "a look at the clip",
      run: () => act({ do: "open", what: "advice", on: true }),
    },
    {
      label: "From a file …",
      hint: "points, plane, corners, a camera or a matte",
      run: () =>
        pickContent(
          ".csv,.json,.glb,.gltf,.zip",
          (file) =>
            void edits.ask(() =>
              api.POST("/api/shots/{shot_id}/motions/import", {
                params: { path: { shot_id: shotId } },
                body: file,
              }),
            ),
        ),
    },
  ];
  return <VerbMenu verb="Follow" disabled={disabled} rows={rows} />;
}
