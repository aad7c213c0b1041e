import { Diamond } from "lucide-react";
import type { OutlineMask } from "~/api/client";
import { Row } from "~/workspace/details/Group";
import { outlineAt } from "~/workspace/outline";
import { useWorkspace } from "~/workspace/store";

type Outline = OutlineMask["outline"];

/** Whether an outline changes over time, and a key for it here. */
export function ShapeKey({
  name,
  outline,
  onChange,
}: {
  name: string;
  outline: Outline;
  onChange: (change: (now: Outline) => Outline) => void;
}) {
  const frame = useWorkspace((s) => s.frame);
  const keyed = outline.keys.length > 1;
  const here = outline.keys.some((k) => k.frame === frame);
  const toggle = (now: Outline): Outline => {
    const others = now.keys.filter((k) => k.frame !== frame);
    if (keyed && here && others.length) return { keys: others };
    const key = { frame, points: outlineAt(now, frame) };
    return { keys: [...others, key].sort((a, b) => a.frame - b.frame) };
  };
  return (
    <Row label="Shape" wide>
      <button
        aria-label={`Key the shape of ${name} here`}
        aria-pressed={keyed && here}
        className={`flex items-center gap-1.5 justify-self-start text-left ${keyed ? "text-saffron" : "text-ink-2"}`}
        onClick={() => onChange(toggle)}
      >
        <Diamond className="size-3.5" fill={keyed && here ? "currentColor" : "none"} />
        {keyed ? `${outline.keys.length} keys` : "Key it here, to change it later"}
      </button>
    </Row>
  );
}
