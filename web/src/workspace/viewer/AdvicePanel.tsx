import { useShallow } from "zustand/react/shallow";
import { X } from "lucide-react";
import { useEffect } from "react";
import type { Advice, Suggestion } from "~/api/client";
import { useAdvice } from "~/api/queries";
import { useTakeMover } from "~/workspace/actions/mattes";
import { moverOutline, useTakeSuggestion } from "~/workspace/actions/outlines";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { act, useWorkspace } from "~/workspace/store";
import { clipRange } from "~/workspace/time";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const KINDS = { locked: "Locked off", camera: "Camera", plane: "Plane", point: "Points" };
const GRADES = { good: "✓", fair: "•", poor: "!" };

function useClipAdvice() {
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const [first, last] = footage ? clipRange(footage) : [0, 0];
  return useAdvice(footage?.asset ?? null, first, last + 1);
}

/** What a look at the clip suggests to follow, in plain words, in place of the details. */
export function AdvicePanel() {
  const { data, error } = useClipAdvice();
  const first = data?.suggestions[0]?.frame;
  useEffect(() => {
    if (first !== undefined) act({ do: "frame", frame: first });
  }, [first]);
  return (
    <div role="dialog" aria-label="What to follow">
      <h2 className="mb-2 flex items-center justify-between text-[15px] font-bold">
        What to follow
        <button aria-label="Close" onClick={() => act({ do: "open", what: "advice", on: false })}>
          <X className="size-4" />
        </button>
      </h2>
      {error && <p className="text-brick">{error.message}</p>}
      {!data && !error && <p className="py-2 text-ink-2">Looking at the clip …</p>}
      {data && (
        <>
          <ul className="mb-3 flex flex-col gap-1.5">
            {data.facts.map((f) => (
              <li key={f.about} className="flex gap-2 text-xs">
                <span
                  aria-hidden
                  className={`num mt-px grid size-4 shrink-0 place-items-center rounded-full ${f.grade === "good" ? "bg-tide-2 text-tide" : f.grade === "fair" ? "bg-saffron-2 text-saffron" : "bg-brick-2 text-brick"}`}
                >
                  {GRADES[f.grade]}
                </span>
                {f.says}
              </li>
            ))}
          </ul>
          <ul className="flex flex-col gap-2">
            {data.suggestions.map((s, k) => (
              <SuggestionRow key={k} at={k} suggestion={s} movers={data.movers} />
            ))}
          </ul>
          {data.movers.length > 0 && <Movers movers={data.movers} />}
        </>
      )}
    </div>
  );
}

function SuggestionRow({
  suggestion,
  at,
  movers,
}: {
  suggestion: Suggestion;
  at: number;
  movers: Advice["movers"];
}) {
  const take = useTakeSuggestion();
  return (
    <li
      className="rounded-lg border border-line bg-raise p-2"
      onPointerEnter={() => act({ do: "advised", at })}
      onPointerLeave={() => act({ do: "advised", at: 0 })}
    >
      <div className="mb-0.5 flex items-center justify-between">
        <b>
          {KINDS[suggestion.kind]}
          {at === 0 && (
            <span className="ml-1.5 rounded-full bg-tide-2 px-1.5 text-[10.5px] text-tide">first choice</span>
          )}
        </b>
        {suggestion.kind !== "locked" && (
          <button
            className="rounded-md bg-tide px-2 py-0.5 text-xs font-semibold text-on-tide"
            onClick={() => void take(suggestion, movers)}
          >
            Use this
          </button>
        )}
      </div>
      <p className="text-xs text-ink-2">{suggestion.why}</p>
    </li>
  );
}

/** What moves by itself, when: gone to, taken as a matte, taken out of the footage, or ignored. */
function Movers({ movers }: { movers: Advice["movers"] }) {
  const take = useTakeMover();
  const row = "rounded-md border border-line bg-raise px-1.5 py-0.5 hover:border-tide hover:text-tide";
  return (
    <section aria-label="Moves by itself" className="mt-3">
      <h3 className="mb-1 text-xs font-bold">Moves by itself</h3>
      <ul className="flex flex-col gap-1">
        {movers.map((m, k) => (
          <li key={k} className="flex items-center gap-1 text-[11px]">
            <button
              className="min-w-0 flex-1 truncate text-left text-tide hover:underline"
              aria-label={`Mover ${k + 1}, a ${m.who}, frames ${m.first} to ${m.last}`}
              onClick={() => act({ do: "frame", frame: m.at[Math.floor(m.at.length / 2)]!.frame })}
            >
              {m.who === "person" ? "Person" : "Thing"},{" "}
              <span className="num">
                {m.first}–{m.last}
              </span>
            </button>
            <button
              className={row}
              aria-label={`Matte of mover ${k + 1}`}
              title="What it covers, in every frame"
              onClick={() => void take(m, movers, "matte")}
            >
              Matte
            </button>
            <button
              className={row}
              aria-label={`Take mover ${k + 1} out`}
              title="Out of the footage: filled with what other frames show there"
              onClick={() => void take(m, movers, "take out")}
            >
              Take out
            </button>
            <button
              className={row}
              aria-label={`Ignore mover ${k + 1}`}
              title="Surfaces, the camera and forms look past it when they are measured again"
              onClick={() => void take(m, movers, "ignore")}
            >
              Ignore
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Suggestions and moving things drawn on the picture; the one under the pointer stands out. */
export function AdviceMarks({ mapping }: { mapping: Mapping }) {
  const { data: advice } = useClipAdvice();
  const { advised, frame } = useWorkspace(useShallow((w) => ({ advised: w.advised, frame: w.frame })));
  if (!advice) return null;
  // Suggestions belong to one frame, movers to all on which they are there.
  const shown = advice.suggestions[0]?.frame === frame ? advice.suggestions : [];
  const moving = advice.movers
    .filter((m) => m.first <= frame && frame <= m.last)
    .map((m) => moverOutline(m, frame));
  const line = (outline: readonly (readonly number[])[]) =>
    outline
      .map(([x, y]) => toScreen(mapping, { x: x!, y: y! }))
      .map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`)
      .join(" ");
  return (
    <svg className="pointer-events-none absolute inset-0 size-full">
      {moving.map((m, k) => (
        <polygon
          key={`m${k}`}
          points={line(m)}
          fill="rgb(107 70 148 / 0.22)"
          stroke="var(--plum-glow)"
          strokeDasharray="6 3"
        />
      ))}
      {shown.map((s, k) => {
        const on = k === advised;
        if (s.kind === "plane")
          return (
            <polygon
              key={k}
              points={line(s.outline)}
              fill={on ? "rgb(12 102 112 / 0.22)" : "none"}
              stroke="var(--glow)"
              strokeWidth={on ? 2.2 : 1}
              strokeOpacity={on ? 1 : 0.5}
            />
          );
        return s.outline.map(([x, y], j) => {
          const p: Point = toScreen(mapping, { x, y });
          return (
            <g key={`${k}-${j}`} opacity={on ? 1 : 0.55}>
              <circle
                cx={p.x}
                cy={p.y}
                r="13"
                fill="none"
                stroke="#000"
                strokeOpacity="0.5"
                strokeWidth="4"
              />
              <circle
                cx={p.x}
                cy={p.y}
                r="13"
                fill="none"
                stroke="var(--glow)"
                strokeWidth={on ? 2.2 : 1.4}
              />
              <circle cx={p.x} cy={p.y} r="2" fill="var(--glow)" />
            </g>
          );
        });
      })}
    </svg>
  );
}
