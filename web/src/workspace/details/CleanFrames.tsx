import { useShallow } from "zustand/react/shallow";
import { Brush, X } from "lucide-react";
import type { Clean, CleanFrame } from "~/api/client";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { setOnPlate } from "~/workspace/patches";
import { FINAL, act, useWorkspace } from "~/workspace/store";

/** The frames that were put right, and what they ride on. */
export function CleanFrames({ clean }: { clean: Clean }) {
  const { record, edits } = useOpenShot();
  const { frame, half } = useWorkspace(
    useShallow((w) => ({ frame: w.frame, half: w.shown.kind === "half" ? w.shown.clean : null })),
  );
  const names: Record<string, string> = {
    none: "Nothing (the lens)",
    ...Object.fromEntries(record.document.motions.map((m) => [m.id, m.name])),
  };
  const change = (label: string, values: (now: Clean) => object) =>
    edits.edit(label, (latest) => {
      const now = latest.plate.find((t): t is Clean => t.id === clean.id && t.kind === "clean") ?? clean;
      return setOnPlate(latest, clean.id, values(now));
    });
  const desk = (f: number) => {
    act({ do: "frame", frame: f });
    act({ do: "desk", desk: { id: clean.id, frame: f } });
  };
  const add = async () => {
    const fresh = { frame, picture: null, suggest: false, seed: 1, strokes: [] } satisfies CleanFrame;
    const done = await change(`Clean frame ${frame}`, (now) => ({
      frames: [...now.frames.filter((f) => f.frame !== frame), fresh].sort((a, b) => a.frame - b.frame),
    }));
    if (done) desk(frame);
  };
  const one = (f: CleanFrame, label: string, values: Partial<CleanFrame>) =>
    void change(label, (now) => ({
      frames: now.frames.map((g) => (g.frame === f.frame ? { ...g, ...values } : g)),
    }));
  return (
    <Group title="Frames">
      <ul>
        {clean.frames.map((f) => (
          <li key={f.frame} className="flex items-center gap-2 py-0.5 text-xs">
            <i aria-hidden className="h-3.5 w-2 rounded-sm bg-saffron-bar" />
            <button
              className="min-w-0 flex-1 truncate text-left hover:underline"
              onClick={() => act({ do: "frame", frame: f.frame })}
            >
              Frame <span className="num">{f.frame}</span>
              <span className="text-ink-3"> · {said(f)}</span>
            </button>
            {f.suggest && (
              <button
                className="text-tide hover:underline"
                title="Another fill from the same surroundings"
                onClick={() => one(f, "Suggest another fill", { seed: (f.seed + 1) % 99999 })}
              >
                Another
              </button>
            )}
            <Button onClick={() => desk(f.frame)} aria-label={`Paint frame ${f.frame}`}>
              <Brush className="size-3.5" /> Paint
            </Button>
            {clean.frames.length > 1 && (
              <button
                aria-label={`Remove clean frame ${f.frame}`}
                className="text-ink-3 hover:text-brick"
                onClick={() =>
                  void change(`Remove clean frame ${f.frame}`, (now) => ({
                    frames: now.frames.filter((g) => g.frame !== f.frame),
                  }))
                }
              >
                <X className="size-3.5" />
              </button>
            )}
          </li>
        ))}
      </ul>
      {!clean.frames.some((f) => f.frame === frame) && (
        <button className="mt-1 text-xs font-semibold text-tide" onClick={() => void add()}>
          Put frame <span className="num">{frame}</span> right as well
        </button>
      )}
      {clean.frames.map((f) =>
        f.frame === frame || clean.frames.length === 1 ? (
          <Row
            key={f.frame}
            label="Suggested"
            help="Fill what the masks cover with texture like its surroundings, before any stroke"
            wide
          >
            <span className="justify-self-start">
              <OnOff
                label={`Suggest a fill for frame ${f.frame}`}
                checked={f.suggest}
                onChange={(suggest) => one(f, suggest ? "Suggest a fill" : "No suggested fill", { suggest })}
              />
            </span>
          </Row>
        ) : null,
      )}
      <Row label="Rides on" wide>
        <Choice
          label="Motion it rides on"
          value={clean.target ?? "none"}
          names={names}
          onChange={(v) =>
            void change(`${clean.name} rides on ${names[v] ?? ""}`, () => ({
              target: v === "none" ? null : v,
            }))
          }
        />
      </Row>
      <Row label="Half, to see" help="Show it half opaque over the footage, to line it up" wide>
        <span className="justify-self-start">
          <OnOff
            label="Show it half opaque"
            checked={half === clean.id}
            onChange={(on) => act({ do: "show", shown: on ? { kind: "half", clean: clean.id } : FINAL })}
          />
        </span>
      </Row>
    </Group>
  );
}

function said(f: CleanFrame): string {
  const parts = [];
  if (f.picture) parts.push("painted elsewhere");
  if (f.suggest) parts.push("suggested");
  if (f.strokes.length) parts.push(f.strokes.length === 1 ? "1 stroke" : `${f.strokes.length} strokes`);
  return parts.join(", ") || "as filmed";
}
