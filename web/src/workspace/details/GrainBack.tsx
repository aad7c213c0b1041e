import { useState } from "react";
import { api } from "~/api/client";
import { Button } from "~/ui/Button";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";

/** The clip's own grain, as it was measured, laid over the finished picture: over what was plonked as well. */
export function GrainBack() {
  const { record, edits, shotId } = useOpenShot();
  const [says, setSays] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const there = record.document.finish.some((look) => look.id === "clip-grain");
  const give = async () => {
    setBusy(true);
    const answer = await edits.ask(
      () => api.POST("/api/shots/{shot_id}/grain", { params: { path: { shot_id: shotId } } }),
      (a) => a.shot,
    );
    setBusy(false);
    if (answer) setSays(answer.says);
  };
  return (
    <Group title="At the end">
      <Button disabled={busy} onClick={() => void give()}>
        {busy ? "Measuring …" : there ? "Measure the grain given back anew" : "Give the grain back"}
      </Button>
      <p className="text-xs text-ink-2">
        {says ??
          "The clip's own grain, measured, comes back over the finished picture, so that all of it has the same."}
      </p>
    </Group>
  );
}
