import { useState } from "react";
import type { Mend, OutlinePoint } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { IDENTITY } from "~/workspace/geometry";
import { outlineAt, withOutline } from "~/workspace/outline";
import { setOnPlate } from "~/workspace/patches";
import { riding, useSpaces } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { RegionShape } from "~/workspace/viewer/RegionShape";
import { useGrab } from "~/workspace/viewer/useGrab";
import type { Mapping } from "~/workspace/viewer/viewport";

/** The outline of a mend, with its points. */
export function MendHandles({ mend, mapping, still }: { mend: Mend; mapping: Mapping; still: boolean }) {
  const { edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const spaces = useSpaces();
  const hand = useGrab(mapping);
  const [shape, setShape] = useState<OutlinePoint[] | null>(null);
  return (
    <svg ref={hand.svg} className="pointer-events-none absolute inset-0 size-full">
      <RegionShape
        region={{ id: mend.id, name: mend.name, use: false }}
        on
        onChoose={() => act({ do: "choose", chosen: { kind: "plate", id: mend.id } })}
        ride={mend.target ? spaces.of(riding(mend.target, mend.reference_frame), frame) : IDENTITY}
        mapping={mapping}
        frame={frame}
        still={still}
        points={shape ?? outlineAt(mend.outline, frame)}
        hand={hand}
        onShape={(points, done) => {
          setShape(points);
          if (!done) return;
          void edits
            .edit(`Shape ${mend.name}`, (latest) => {
              const now = latest.plate.find((p): p is Mend => p.id === mend.id && p.kind === "mend") ?? mend;
              return setOnPlate(latest, mend.id, { outline: withOutline(now.outline, frame, points) });
            })
            .finally(() => setShape(null));
        }}
        onBroken={() => setShape(null)}
      />
    </svg>
  );
}
