import { Download } from "lucide-react";
import { type FileRow, FilesMenu } from "~/ui/FilesMenu";
import { useOpenShot } from "~/workspace/context";
import { kindOf } from "~/workspace/kinds";
import { useWorkspace } from "~/workspace/store";

/** The masks of a thing as files: outlines as they are now or as they move, and what they cover in every frame. */
export function MasksOut({ address, drawn }: { address: string; drawn: boolean }) {
  const { shotId, record } = useOpenShot();
  const frame = useWorkspace((w) => w.frame);
  const from = `/api/shots/${shotId}/masks/${address}`;
  const now = `${from}?frame=${frame}&number=${record.number}`;
  const outlines: FileRow[] = [
    { label: "Outlines, as in this frame", hint: "SVG, to draw on", href: now },
    { label: "Outlines, as they move", hint: "SVG that plays, with all keys", href: `${now}&moving=true` },
  ];
  const covers = (kindOf("motion", "matte")?.formats ?? []).map(({ name, label }) => ({
    label: `What they cover: ${label}`,
    hint: "white where they are, every frame",
    href: `${from}/pictures/${name}`,
  }));
  return (
    <FilesMenu
      label="Masks as files"
      sign={<Download className="size-4" />}
      rows={[...(drawn ? outlines : []), ...covers]}
    />
  );
}
