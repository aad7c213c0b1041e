import { useState } from "react";
import { PageFrame } from "~/app/PageFrame";
import { useAssets } from "~/api/queries";
import { AddFiles } from "~/shelf/AddFiles";
import { matches, StillGrid } from "~/shelf/StillGrid";

export function ShelfPage() {
  const { data, error } = useAssets();
  const [words, setWords] = useState("");
  const found = (data ?? []).filter((a) => matches(a, words));
  const stills = found.filter((a) => a.kind === "still");
  const clips = found.filter((a) => a.kind === "clip");
  return (
    <PageFrame title="Shelf" actions={<AddFiles />}>
      <input
        type="search"
        aria-label="Search the shelf"
        placeholder="Search: flare, boat, chart …"
        className="mb-5 h-9 w-80 rounded-lg border border-line bg-raise px-3"
        value={words}
        onChange={(e) => setWords(e.target.value)}
      />
      {error && <p className="text-brick">{error.message}</p>}
      {data && !found.length && (
        <p className="text-ink-2">
          {words
            ? "Nothing on the shelf fits these words."
            : "The shelf is empty. Bring in stills with transparency, such as PNG files."}
        </p>
      )}
      {stills.length > 0 && (
        <section className="mb-8">
          <h2 className="mb-2 font-semibold">Elements</h2>
          <StillGrid assets={stills} />
        </section>
      )}
      {clips.length > 0 && (
        <section>
          <h2 className="mb-2 font-semibold">Clips</h2>
          <StillGrid assets={clips} />
        </section>
      )}
    </PageFrame>
  );
}
