import { Ellipsis } from "lucide-react";
import { api } from "~/api/client";
import { type FileRow, FilesMenu } from "~/ui/FilesMenu";
import { pickText } from "~/workspace/actions/files";
import { useOpenShot } from "~/workspace/context";

/** The keyed numbers of a thing as files, and from one. */
export function CurveFiles({ owner, any }: { owner: string; any: boolean }) {
  const { shotId, edits } = useOpenShot();
  const address = `/api/shots/${shotId}/curves/${owner}/curves`;
  const bringIn = () =>
    pickText(
      ".csv,.json",
      (name, text) =>
        void edits.ask(() =>
          api.POST("/api/shots/{shot_id}/curves/{owner}", {
            params: { path: { shot_id: shotId, owner } },
            body: { name, text },
          }),
        ),
    );
  const out: FileRow[] = [
    { label: "As a table (CSV)", hint: "a row a frame, a column a number", href: `${address}.csv` },
    { label: "As keys (JSON)", hint: "each key with its ease and handles", href: `${address}.json` },
  ];
  return (
    <FilesMenu
      label="Curves as files"
      sign={<Ellipsis className="m-0.5 size-3.5" />}
      rows={[
        ...(any ? out : []),
        { label: "From a file …", hint: "for numbers of the same names", run: bringIn },
      ]}
    />
  );
}
