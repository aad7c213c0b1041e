import { type Layer, type PictureKey, answered, api } from "~/api/client";
import { complain } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { findLayer, setOnLayer } from "~/workspace/patches";
import { HANDLE, act, useWorkspace } from "~/workspace/store";
import { BoxTool } from "~/workspace/viewer/BoxTool";
import type { Mapping } from "~/workspace/viewer/viewport";

/** Picking a colour of the chosen layer: a click, or a box dragged over some of it. */
export function PickTool({ layer, mapping }: { layer: Layer; mapping: Mapping }) {
  const { shotId, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);

  const take = async (a: Point, b: Point, more: boolean) => {
    const box = {
      x0: Math.min(a.x, b.x),
      y0: Math.min(a.y, b.y),
      x1: Math.max(a.x, b.x),
      y1: Math.max(a.y, b.y),
    };
    try {
      const { colour } = await answered(
        api.GET("/api/shots/{shot_id}/layers/{layer_id}/colour", {
          params: { path: { shot_id: shotId, layer_id: layer.id }, query: { frame, ...box } },
        }),
      );
      await edits.edit(`Pick ${colour}`, (latest) => {
        const now = findLayer(latest, layer.id);
        const { tool } = useWorkspace.getState();
        const mask = tool.kind === "pick" ? tool.mask : undefined;
        const added = (key: PictureKey | null | undefined) =>
          key && "colours" in key ? { ...key, colours: [...key.colours, colour] } : null;
        if (mask) {
          const masks = now?.masks.map((m) => (m.id === mask ? { ...m, key: added(m.key) ?? m.key } : m));
          return setOnLayer(latest, layer.id, { masks });
        }
        const key = added(now && "key" in now ? now.key : null);
        return key ? setOnLayer(latest, layer.id, { key }) : [];
      });
      // With Shift further samples can be picked at once.
      if (!more) act({ do: "tool", tool: HANDLE });
    } catch (error) {
      complain(error instanceof Error ? error.message : String(error));
    }
  };

  return (
    <BoxTool
      mapping={mapping}
      name="pick-tool"
      onTake={(from, to, { shift }) => void take(from, to ?? from, shift)}
    />
  );
}
