import { useState } from "react";
import type { Asset } from "~/api/client";
import { PageFrame } from "~/app/PageFrame";
import { useAssets } from "~/api/queries";
import { AddFiles } from "~/shelf/AddFiles";
import { matches, StillGrid } from "~/shelf/StillGrid";

const SECTIONS: { title: string; kinds: Asset["kind"][] }[] = [
  { title: "Elements", kinds: ["still"] },
  { title: "Models and light maps", kinds: ["model", "light"] },
  { title: "Clips", kinds: ["clip"] },
  { title: "Sounds", kinds: ["sound"] },
  { title: "Colour tables", kinds: ["table"] },
];

export function ShelfPage() {
  const { data, error } = useAssets();
  const [words, setWords] = useState("");
  const found = (data ?? []).filter((a) => matches(a, words));
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
      {SECTIONS.map(({ title, kinds }) => {
        const some = found.filter((a) => kinds.includes(a.kind));
        return (
          some.length > 0 && (
            <section key={title} className="mb-8">
              <h2 className="mb-2 font-semibold">{title}</h2>
              <StillGrid assets={some} />
            </section>
          )
        );
      })}
    </PageFrame>
  );
}
