import { followable } from "~/workspace/kinds";
import { useState } from "react";
import { useShallow } from "zustand/react/shallow";
import { useQuery } from "@tanstack/react-query";
import { Columns2 } from "lucide-react";
import { Popover, ToggleGroup } from "radix-ui";
import { type Motion, answered, api } from "~/api/client";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { NumberBox } from "~/ui/NumberBox";
import { Slider } from "~/ui/Slider";
import { useOpenShot } from "~/workspace/context";
import { type Compare, type Other, type View, act, useWorkspace } from "~/workspace/store";
import { lengthOf } from "~/workspace/time";

export const VIEW_NAMES: Record<View, string> = { final: "Final", plate: "Plate", matte: "Matte" };

/** What a picture is compared with, in words. */
export function otherName(other: Other, motions: Motion[]): string {
  switch (other.kind) {
    case "untouched":
      return "Untouched clip";
    case "frame":
      return `Frame ${other.frame}`;
    case "step":
      return `Before: ${other.label}`;
    case "held":
      return `Held on ${motions.find((m) => m.id === other.motion)?.name ?? "a motion"}`;
    default:
      return VIEW_NAMES[other.kind];
  }
}

const HOWS: { how: Compare["how"]; label: string; title: string }[] = [
  { how: "wipe", label: "Wipe", title: "One wiped off the other" },
  { how: "beside", label: "Beside", title: "Both beside each other, moved and enlarged together" },
  { how: "difference", label: "Difference", title: "What differs, made stronger" },
];

/** Which two pictures are compared, and how; and which frame is laid over, and how strongly. */
export function ComparePanel() {
  const { record, shotId } = useOpenShot();
  const { compare, onion, onionShare, frame } = useWorkspace(
    useShallow((s) => ({ compare: s.compare, onion: s.onion, onionShare: s.onionShare, frame: s.frame })),
  );
  const [open, setOpen] = useState(false);
  const { data: steps } = useQuery({
    queryKey: ["steps", shotId, record.version],
    queryFn: () => answered(api.GET("/api/shots/{shot_id}/steps", { params: { path: { shot_id: shotId } } })),
    enabled: open,
    placeholderData: (before) => before,
  });
  const motions = followable(record.document).filter((m) => m.measurement);
  const last = Math.max(lengthOf(record.document.footage), 1) - 1;
  const others: Record<string, Other> = {
    untouched: { kind: "untouched" },
    plate: { kind: "plate" },
    final: { kind: "final" },
    frame: { kind: "frame", frame },
  };
  const names: Record<string, string> = {
    untouched: "The untouched clip",
    plate: "The plate",
    final: "The finished picture",
    frame: "Another frame",
  };
  for (const m of motions) {
    others[`held-${m.id}`] = { kind: "held", motion: m.id };
    names[`held-${m.id}`] = `Held still on ${m.name}`;
  }
  // A step is named by what was done next: its pictures are those before that.
  (steps ?? []).slice(1).forEach((step, k) => {
    const label = steps![k]!.label;
    others[`step-${step.number}`] = { kind: "step", picture: step.picture, label };
    names[`step-${step.number}`] = `Before: ${label}`;
  });
  const now = compare?.other;
  const chosen =
    now?.kind === "held"
      ? `held-${now.motion}`
      : now?.kind === "step"
        ? (Object.entries(others).find(([, o]) => o.kind === "step" && o.picture === now.picture)?.[0] ??
          "untouched")
        : (now?.kind ?? "untouched");
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button
          look="well"
          className="h-[26px] text-xs"
          aria-label="Compare …"
          aria-pressed={compare !== null && compare.how !== "wipe"}
          title="Compare any two pictures; onion skin"
        >
          <Columns2 className="size-3.5" />
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          side="top"
          sideOffset={8}
          aria-label="Compare"
          className="z-50 w-72 rounded-xl border border-line bg-raise p-3 text-ink shadow-xl"
        >
          <h3 className="mb-2 font-semibold">Compare what is shown with</h3>
          <Choice
            label="Compared with"
            value={chosen}
            names={names}
            onChange={(v) => others[v] && act({ do: "compare", with: { other: others[v] } })}
          />
          {now?.kind === "frame" && (
            <span className="mt-1.5 flex items-center gap-2 text-xs">
              Frame
              <NumberBox
                label="Compared frame"
                value={now.frame}
                low={0}
                high={last}
                step={1}
                unit=""
                onCommit={(v) =>
                  act({ do: "compare", with: { other: { kind: "frame", frame: Math.round(v) } } })
                }
              />
            </span>
          )}
          <ToggleGroup.Root
            type="single"
            aria-label="How they are compared"
            value={compare?.how ?? ""}
            onValueChange={(how) => act({ do: "compare", with: how ? { how: how as Compare["how"] } : null })}
            className="mt-2 flex rounded-lg bg-paper p-0.5"
          >
            {HOWS.map((h) => (
              <ToggleGroup.Item
                key={h.how}
                value={h.how}
                title={h.title}
                className="flex-1 rounded-md px-2 py-1 text-xs data-[state=on]:bg-raise data-[state=on]:font-semibold"
              >
                {h.label}
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
          {compare?.how === "difference" && (
            <Share
              label="Gain"
              value={compare.gain}
              low={1}
              high={32}
              says={`${compare.gain} times`}
              onChange={(gain) => act({ do: "compare", with: { gain } })}
            />
          )}
          {compare && (
            <button
              className="mt-1.5 text-xs font-semibold text-tide"
              onClick={() => act({ do: "compare", with: null })}
            >
              Stop comparing
            </button>
          )}
          <h3 className="mt-3 mb-1.5 border-t border-line pt-2.5 font-semibold">Onion skin</h3>
          <span className="flex items-center gap-2 text-xs">
            Frame
            <NumberBox
              label="Onion frame"
              value={onion ?? frame}
              low={0}
              high={last}
              step={1}
              unit=""
              onCommit={(v) => act({ do: "onion", frame: Math.round(v) })}
            />
          </span>
          <Share
            label="Strength"
            value={Math.round(100 * onionShare)}
            low={5}
            high={95}
            says={`${Math.round(100 * onionShare)} %`}
            onChange={(v) => act({ do: "onionShare", share: v / 100 })}
          />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Share({
  label,
  value,
  low,
  high,
  says,
  onChange,
}: {
  label: string;
  value: number;
  low: number;
  high: number;
  says: string;
  onChange: (v: number) => void;
}) {
  return (
    <div className="mt-2 flex items-center gap-2 text-xs">
      {label}
      <Slider label={label} value={value} low={low} high={high} onPreview={onChange} />
      <span className="num w-16 text-right text-ink-2">{says}</span>
    </div>
  );
}
