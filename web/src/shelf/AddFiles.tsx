import { useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { sendFile, useUploads } from "~/api/upload";
import { Button } from "~/ui/Button";
import { Progress } from "~/ui/Progress";

/** Bring stills (and clips) on to the shelf. */
export function AddFiles({
  accept = "image/*,video/*,audio/*,.heic,.heif,.exr,.zip,.hdr,.cube,.glb,.gltf,.usdz,.usd,.usda,.usdc,.obj,.ply,.stl",
  label = "Bring in files",
}: {
  accept?: string;
  label?: string;
}) {
  const input = useRef<HTMLInputElement>(null);
  const client = useQueryClient();
  const sending = Object.values(useUploads((s) => s.list))[0];
  return (
    <span className="flex items-center gap-3">
      {sending && (
        <span className="flex w-44 items-center gap-2 text-xs">
          <Progress done={sending.sent} total={sending.size} label={`Bringing in ${sending.name}`} />
          <button className="font-semibold text-tide" onClick={sending.stop}>
            Stop
          </button>
        </span>
      )}
      <input
        ref={input}
        type="file"
        multiple
        accept={accept}
        aria-label="Files to bring in"
        className="sr-only"
        onChange={async (e) => {
          const files = [...(e.target.files ?? [])];
          e.target.value = "";
          for (const file of files) await sendFile(file, {});
          await client.invalidateQueries({ queryKey: ["assets"] });
        }}
      />
      <Button onClick={() => input.current?.click()}>{label}</Button>
    </span>
  );
}
