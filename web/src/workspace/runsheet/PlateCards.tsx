import { Eye, EyeOff } from "lucide-react";
import type { Treatment } from "~/api/client";
import { useAddPlain, useAddSteady, useSteadyByItself } from "~/workspace/actions/plate";
import { useOpenShot } from "~/workspace/context";
import { kindOf, told } from "~/workspace/kinds";
import { setOnPlate } from "~/workspace/patches";
import { Card, Chip } from "~/workspace/runsheet/Card";
import { VerbMenu } from "~/workspace/runsheet/VerbMenu";
import { act, outlining } from "~/workspace/store";

/** What can be done to the footage itself. */
export function TreatMenu({ disabled }: { disabled: boolean }) {
  const steady = useAddSteady();
  const byItself = useSteadyByItself();
  const plain = useAddPlain();
  const { record } = useOpenShot();
  const has = record.document.plate.some((p) => p.kind === "steady");
  const rows = [
    { label: "Steady", hint: "hold it on a motion, or take bumps out", run: () => void steady() },
    ...(has
      ? []
      : [
          {
            label: "Steady by itself",
            hint: "a look at the clip finds what to hold on to",
            run: () => void byItself(),
          },
        ]),
    {
      label: "Take something out",
      hint: "draw round it; it is filled in every frame",
      run: () => act({ do: "tool", tool: outlining({ for: "mend" }) }),
    },
    {
      label: "Clean frame",
      hint: "put one frame right by hand; it is carried through",
      run: () => act({ do: "tool", tool: outlining({ for: "clean" }) }),
    },
    {
      label: "Texture fill",
      hint: "draw round it; what lies round it goes on inside",
      run: () => act({ do: "tool", tool: outlining({ for: "suggest" }) }),
    },
    {
      label: "Freeze a part",
      hint: "hold an area as it is in this frame, on its motion",
      run: () => act({ do: "tool", tool: outlining({ for: "freeze" }) }),
    },
    {
      label: "Handheld",
      hint: "a natural shake for what stands too still",
      run: () => void plain("handheld"),
    },
    {
      label: "De-grain",
      hint: "take the clip's grain off; it can be given back at the end",
      run: () => void plain("degrain"),
    },
  ];
  return <VerbMenu verb="Treat" disabled={disabled} rows={rows} />;
}

export function PlateCard({ treatment, on }: { treatment: Treatment; on: boolean }) {
  const { record, edits } = useOpenShot();
  const Icon = treatment.shown ? Eye : EyeOff;
  const rides =
    "masks" in treatment
      ? record.document.motions.find((m) =>
          "target" in treatment
            ? m.id === treatment.target
            : treatment.masks.some((k) => k.rides === `to:${m.id}`),
        )
      : undefined;
  const held =
    "targets" in treatment
      ? treatment.targets
          .map((t) => record.document.motions.find((m) => m.id === t))
          .filter((m) => m !== undefined)
      : undefined;
  const kind = kindOf("treatment", treatment.kind);
  return (
    <Card
      on={on}
      faded={!treatment.shown}
      onChoose={() => act({ do: "choose", chosen: { kind: "plate", id: treatment.id } })}
      picture={
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <rect width="42" height="28" fill="var(--tide-2)" />
          {treatment.kind === "clean" ? (
            <>
              <rect x="7" y="5" width="22" height="16" rx="2" fill="none" stroke="var(--ink-3)" />
              <path
                d="M14 23l14-12 5 5-14 9-6 1z"
                fill="var(--plum-2)"
                stroke="var(--plum)"
                strokeWidth="1.5"
              />
            </>
          ) : treatment.kind === "mend" ? (
            <path
              d="M13 9q7-5 15 0t1 10q-8 5-15 1t-1-11z"
              fill="rgb(107 70 148 / 0.18)"
              stroke="var(--plum)"
              strokeWidth="1.6"
              strokeDasharray="4 2.4"
            />
          ) : treatment.kind === "degrain" ? (
            <>
              {[6, 11, 16].map((x) =>
                [7, 13, 19].map((y) => (
                  <circle key={`${x}-${y}`} cx={x + (y % 4)} cy={y} r="1.1" fill="var(--ink-3)" />
                )),
              )}
              <path d="M24 14h13" stroke="var(--tide)" strokeWidth="2" strokeLinecap="round" />
            </>
          ) : treatment.kind === "steady" ? (
            <>
              <path
                d="M4 17q4-10 8-3t7-2 7 4 6-5 6 2"
                fill="none"
                stroke="var(--ink-3)"
                strokeDasharray="2 1.6"
              />
              <path d="M4 14h34" stroke="var(--tide)" strokeWidth="2" strokeLinecap="round" />
            </>
          ) : (
            <path
              d="M4 15q3-7 6-1t5-4 5 7 5-8 5 6 8-3"
              fill="none"
              stroke="var(--tide)"
              strokeWidth="1.8"
              strokeLinecap="round"
            />
          )}
        </svg>
      }
      name={treatment.name}
      line={
        "frames" in treatment ? (
          <>
            {treatment.frames.length === 1 ? "Frame" : "Frames"}{" "}
            <span className="num">{treatment.frames.map((f) => f.frame).join(", ")}</span>{" "}
            {rides && <Chip bad={!rides.measurement}>{rides.name}</Chip>}
          </>
        ) : (
          <>
            {told(kind?.card, treatment) || kind?.label}{" "}
            {rides && <Chip bad={!rides.measurement}>{rides.name}</Chip>}
            {held?.map((m) => (
              <Chip key={m.id} bad={!m.measurement}>
                {m.name}
              </Chip>
            ))}
            {held?.length === 0 && <Chip bad>holds nothing</Chip>}
          </>
        )
      }
      side={
        <button
          className="shrink-0 rounded p-0.5 text-ink-2 hover:text-ink"
          aria-label={treatment.shown ? `Turn ${treatment.name} off` : `Turn ${treatment.name} on`}
          onClick={() =>
            void edits.edit(`${treatment.name} ${treatment.shown ? "off" : "on"}`, (latest) =>
              setOnPlate(latest, treatment.id, { shown: !treatment.shown }),
            )
          }
        >
          <Icon className="size-4" />
        </button>
      }
    />
  );
}
