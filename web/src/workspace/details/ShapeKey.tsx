import { Diamond } from "lucide-react";
import type { OutlineMask } from "~/api/client";
import { Row } from "~/workspace/details/Group";
import { drawnKey, outlineAt } from "~/workspace/outline";
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
  const here = outline.keys.some((k) => k.frame === frame && !k.followed);
  const drawn = outline.keys.filter((k) => !k.followed).length;
  const followed = outline.keys.length - drawn;
  const toggle = (now: Outline): Outline => {
    const others = now.keys.filter((k) => k.frame !== frame);
    // What was followed needs a drawn shape to start from.
    if (keyed && here && others.some((k) => !k.followed)) return { keys: others };
    const key = drawnKey(frame, outlineAt(now, frame));
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
        {!keyed
          ? "Key it here, to change it later"
          : followed
            ? `${drawn} drawn, ${followed} followed`
            : `${drawn} keys`}
      </button>
    </Row>
  );
}
