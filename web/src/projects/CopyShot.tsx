import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, type ShotBrief, answered, api } from "~/api/client";
import { useProjects } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { Dialog } from "~/ui/Dialog";
import { complain, mention } from "~/ui/Notices";

/** A shot once more, in this project or another one. */
export function CopyShot({ shot, from, onClose }: { shot: ShotBrief; from: string; onClose: () => void }) {
  const { data: projects = [] } = useProjects();
  const [to, setTo] = useState(from);
  const client = useQueryClient();
  const copy = async () => {
    try {
      await answered(
        api.POST("/api/shots/{shot_id}/copy", {
          params: { path: { shot_id: shot.id } },
          body: { project: to },
        }),
      );
      await client.invalidateQueries({ queryKey: ["shots", to] });
      await client.invalidateQueries({ queryKey: ["projects"] });
      mention(`${shot.name} is in ${projects.find((p) => p.id === to)?.name ?? "the project"} too.`);
      onClose();
    } catch (problem) {
      complain(problem instanceof ApiError ? problem.message : String(problem));
    }
  };
  return (
    <Dialog open onOpenChange={onClose} title={`Copy ${shot.name}`}>
      <p className="mb-2 text-ink-2">As it is now, with all that was measured. Into which project?</p>
      <div className="mb-5">
        <Choice
          label="Project"
          value={to}
          names={Object.fromEntries(projects.map((p) => [p.id, p.name]))}
          onChange={setTo}
        />
      </div>
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button look="primary" onClick={() => void copy()}>
          Copy it
        </Button>
      </div>
    </Dialog>
  );
}
