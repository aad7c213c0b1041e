import { useState } from "react";
import { usePickOut } from "~/workspace/actions/mattes";
import type { Point } from "~/workspace/geometry";
import { round } from "~/workspace/patches";
import { BoxTool } from "~/workspace/viewer/BoxTool";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** Picking something out: a click on it, with Alt on what it is not, or a loose box dragged round it. */
export function MatteTool({ mapping }: { mapping: Mapping }) {
  const pick = usePickOut();
  const [waits, setWaits] = useState<Point | null>(null);
  const at = waits && toScreen(mapping, waits);
  return (
    <BoxTool
      mapping={mapping}
      name="matte-tool"
      loose
      onTake={(from, to, { alt }) => {
        setWaits(to ? null : from);
        void pick(
          to ? { box: [from, to] } : { click: { x: round(from.x), y: round(from.y), subject: !alt } },
        ).finally(() => setWaits(null));
      }}
    >
      {at && <circle cx={at.x} cy={at.y} r="8" fill="none" stroke="var(--on-picture)" strokeWidth="2" />}
    </BoxTool>
  );
}
