import { useState } from "react";
import { useAssets, useKinds } from "~/api/queries";
import { AddFiles } from "~/shelf/AddFiles";
import { matches, StillGrid } from "~/shelf/StillGrid";
import { Dialog } from "~/ui/Dialog";
import { OnOff } from "~/ui/OnOff";
import { SlowImage } from "~/ui/SlowImage";
import { EVERYWHERE, GENERATED, useAddDome, useAddLayer, usePlonkAtOnce } from "~/workspace/actions/plonk";
import { freshPlace, isBehind } from "~/workspace/actions/front";
import { useOpenShot } from "~/workspace/context";
import { wholePicture } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

/** Choose an element from the shelf; the next click in the picture puts it there. */
export function PlonkDialog() {
  const open = useWorkspace((s) => s.shelfOpen);
  const { data } = useAssets();
  const [words, setWords] = useState("");
  const [pinned, setPinned] = useState(false);
  const { record } = useOpenShot();
  const atOnce = usePlonkAtOnce();
  const chosen = useWorkspace((s) => s.chosen);
  const behind = isBehind(freshPlace(record.document, chosen));
  const plane = record.document.motions.some((m) => m.kind === "plane");
  const asPin = pinned && plane;
  const { data: kinds } = useKinds("generator");
  const add = useAddLayer();
  const dome = useAddDome();
  const said = words.toLowerCase();
  const made = (kinds ?? []).filter((k) => `${k.label} ${k.help}`.toLowerCase().includes(said));
  const everywhere = (kind: string, label: string) => {
    const { x, y } = wholePicture(record.document);
    return add(label, { kind: "generated", generator: { kind }, x, y });
  };
  const stills = (data ?? []).filter(
    (a) =>
      a.kind !== "table" &&
      a.kind !== "sound" &&
      (a.kind === "still" || a.kind === "model" || a.kind === "light" || a.state === "ready") &&
      matches(a, words),
  );
  return (
    <Dialog
      wide
      open={open}
      onOpenChange={(on) => act({ do: "open", what: "shelf", on })}
      title={behind ? "Plonk behind the footage" : "Plonk an element"}
    >
      <div className="mb-3 flex items-center gap-3">
        <input
          type="search"
          aria-label="Search the shelf"
          placeholder="Search the shelf"
          className="h-8 flex-1 rounded-lg border border-line bg-raise px-3"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        {plane && (
          <span className="flex items-center gap-2">
            <OnOff label="Pin to the plane" checked={pinned} onChange={setPinned} /> Pin to the plane
          </span>
        )}
        <AddFiles label="Bring in an element" />
      </div>
      {made.length > 0 && (
        <>
          <h3 className="mb-1.5 text-xs font-bold">Made as the shot runs</h3>
          <ul className="mb-4 grid grid-cols-[repeat(auto-fill,minmax(112px,1fr))] gap-2">
            {made.map((k) => (
              <li key={k.kind}>
                <button
                  className="block w-full rounded-lg border border-line bg-raise text-left text-ink hover:border-tide"
                  aria-label={`Plonk ${k.label}`}
                  title={k.help}
                  onClick={() => {
                    act({ do: "open", what: "shelf", on: false });
                    if (EVERYWHERE.includes(k.kind)) void everywhere(k.kind, k.label);
                    else act({ do: "tool", tool: { kind: "plonk", what: GENERATED + k.kind, as: "still" } });
                  }}
                >
                  <span className="grid aspect-video w-full place-items-center overflow-hidden rounded-t-lg bg-well text-xs text-on-well-2">
                    <SlowImage
                      src={`/api/generated/${k.kind}.jpg`}
                      className="size-full object-cover"
                      missing="No picture"
                    />
                  </span>
                  <b className="block truncate px-2 py-1 text-xs font-semibold">{k.label}</b>
                </button>
              </li>
            ))}
          </ul>
          <h3 className="mb-1.5 text-xs font-bold">Stills, clips, models and light</h3>
        </>
      )}
      {stills.length ? (
        <StillGrid
          assets={stills}
          verb="Plonk"
          onChoose={(asset) => {
            act({ do: "open", what: "shelf", on: false });
            if (asset.kind === "light") void dome(asset);
            else if (asPin) atOnce(asset.digest, "pin");
            else if (behind && asset.kind !== "model") atOnce(asset.digest, "still");
            else act({ do: "tool", tool: { kind: "plonk", what: asset.digest, as: "still" } });
          }}
        />
      ) : (
        <p className="py-8 text-center text-ink-2">
          {words
            ? "Nothing fits these words."
            : "Nothing here yet. Bring in a PNG with transparency, or a clip to key."}
        </p>
      )}
    </Dialog>
  );
}
