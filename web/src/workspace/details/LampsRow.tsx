import type { MeshLayer } from "~/api/client";
import { api } from "~/api/client";
import { useModel } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { Row } from "~/workspace/details/Group";
import { useWorkspace } from "~/workspace/store";

/** The lamps in a model's file, to be put into its room as lamps of the shot. */
export function LampsRow({ layer }: { layer: MeshLayer }) {
  const { data } = useModel(layer.asset);
  const { shotId, edits } = useOpenShot();
  const lights = data?.lights ?? [];
  if (!lights.length) return null;
  const take = () =>
    void edits.ask(() =>
      api.POST("/api/shots/{shot_id}/layers/{layer_id}/lamps", {
        params: { path: { shot_id: shotId, layer_id: layer.id } },
        body: { frame: useWorkspace.getState().frame },
      }),
    );
  return (
    <Row label="Lamps" help="As its file has them: each becomes a lamp of the shot, where it is now." wide>
      <span className="flex items-center justify-between gap-2">
        <span className="truncate text-ink-2" title={lights.join(", ")}>
          {lights.length === 1 ? lights[0] : `${lights.length} lamps`}
        </span>
        <button className="font-semibold text-tide" onClick={take}>
          {lights.length === 1 ? "Light it" : "Light them"}
        </button>
      </span>
    </Row>
  );
}
