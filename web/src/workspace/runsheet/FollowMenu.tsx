import { useState } from "react";
import { ApiError, type FileFacts, type Timing, answered, api } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useAddCamera, useAddObject } from "~/workspace/actions/camera";
import { type Content, pickContent } from "~/workspace/actions/files";
import { useAddDepth } from "~/workspace/actions/depth";
import { useAddForm } from "~/workspace/actions/forms";
import { useOpenShot } from "~/workspace/context";
import { FileFit } from "~/workspace/runsheet/FileFit";
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
  const [asked, setAsked] = useState<{ file: Content; facts: FileFacts } | null>(null);
  const path = { shot_id: shotId };
  const bringIn = (file: Content, timing: Timing | null) =>
    edits.ask(() =>
      api.POST("/api/shots/{shot_id}/motions/import", { params: { path }, body: { ...file, timing } }),
    );
  const take = async (file: Content) => {
    try {
      const looked = api.POST("/api/shots/{shot_id}/motions/import/facts", { params: { path }, body: file });
      const facts = await answered(looked);
      if (facts.fits) await bringIn(file, null);
      else setAsked({ file, facts });
    } catch (problem) {
      complain(problem instanceof ApiError ? problem.message : String(problem));
    }
  };
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
          ".csv,.json,.glb,.gltf,.usdz,.usd,.usda,.usdc,.zip,.mkv,.mov,.mp4,.webm",
          (file) => void take(file),
        ),
    },
  ];
  return (
    <>
      <VerbMenu verb="Follow" disabled={disabled} rows={rows} />
      {asked && (
        <FileFit
          name={asked.file.name}
          facts={asked.facts}
          onDone={(timing) => {
            setAsked(null);
            if (timing) void bringIn(asked.file, timing);
          }}
        />
      )}
    </>
  );
}
