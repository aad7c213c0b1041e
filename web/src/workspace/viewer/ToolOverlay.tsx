import type { ComponentType } from "react";
import type { Layer } from "~/api/client";
import { useChosenLayer } from "~/workspace/context";
import { type Tool, useWorkspace } from "~/workspace/store";
import { BeamTool } from "~/workspace/viewer/BeamHandles";
import { CutTool } from "~/workspace/viewer/CutTool";
import { MatteTool } from "~/workspace/viewer/MatteTool";
import { OutlineTool } from "~/workspace/viewer/OutlineTool";
import { PickTool } from "~/workspace/viewer/PickTool";
import type { Mapping } from "~/workspace/viewer/viewport";

type Overlay = ComponentType<{ mapping: Mapping }>;

/** What a tool draws over the picture, and works with there; the others take a click (`useClickTool`). */
const OVER_PICTURE: Partial<Record<Tool["kind"], Overlay>> = {
  outline: OutlineTool,
  "pick-out": MatteTool,
  beam: BeamTool,
};
/** The same of tools that work on the chosen layer, in its own parcel. */
const OVER_LAYER: Partial<Record<Tool["kind"], ComponentType<{ layer: Layer; mapping: Mapping }>>> = {
  cut: CutTool,
  pick: PickTool,
};

/** The overlay of the tool in hand, where it has one. */
export function ToolOverlay({ mapping, inParcel }: { mapping: Mapping; inParcel: Mapping }) {
  const kind = useWorkspace((w) => w.tool.kind);
  const layer = useChosenLayer();
  const Over = OVER_PICTURE[kind];
  if (Over) return <Over mapping={mapping} />;
  const OverLayer = OVER_LAYER[kind];
  return OverLayer && layer ? <OverLayer layer={layer} mapping={inParcel} /> : null;
}
