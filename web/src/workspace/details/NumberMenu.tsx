import { Popover } from "radix-ui";
import type { FieldHints, Num, Wobble } from "~/api/client";
import { Choice } from "~/ui/Choice";
import { NumberBox } from "~/ui/NumberBox";
import { OnOff } from "~/ui/OnOff";
import { Row } from "~/workspace/details/Group";
import { baseOf, isKeyed, keysOf, valueAt, withBase, withValue } from "~/workspace/geometry";
import { useWorkspace } from "~/workspace/store";

export const EASES = {
  hold: "Holds, then jumps",
  linear: "Evenly",
  smooth: "Smoothly",
  curve: "By handles",
} as const;
const WOBBLES = { smooth: "Drifts", flicker: "Flickers", steps: "Steps" };

interface Props {
  hints: FieldHints;
  value: Num;
  onChange: (value: Num) => void;
}

/** What a number's name opens: how it goes from key to key, its wobble, and its default. */
export function NumberMenu({ hints, value, onChange }: Props) {
  const frame = useWorkspace((s) => s.frame);
  const wobble = typeof value === "object" && "wobble" in value ? value.wobble : null;
  const keys = keysOf(value);
  const before = keys.filter((k) => k.frame <= frame).at(-1) ?? keys[0];
  const set = (changed: Partial<Wobble>) =>
    wobble && onChange({ base: baseOf(value), wobble: { ...wobble, ...changed } });
  const { low = 0, high = 100, step = 1, unit = "" } = hints;
  return (
    <Popover.Root>
      <Popover.Trigger
        className={`truncate rounded text-left hover:text-ink hover:underline ${wobble ? "font-semibold text-saffron" : ""}`}
        aria-label={`Keys and wobble of ${hints.label}`}
        title={hints.help ? `${hints.help} Click for keys and wobble.` : "Keys and wobble"}
      >
        {hints.label}
        {wobble && " ∿"}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          className="z-50 w-72 rounded-lg border border-line bg-raise p-3 text-xs shadow-xl"
          onKeyDown={(e) => e.stopPropagation()}
        >
          <b className="mb-1 block text-[13px]">{hints.label}</b>
          {keys.length > 0 && before && (
            <>
              <Row label="From this key" help="How it goes on from the key at or before this frame" wide>
                <Choice
                  label={`How ${hints.label} goes on`}
                  value={before.ease}
                  names={EASES}
                  onChange={(ease) =>
                    onChange(
                      withBase(value, {
                        keys: keys.map((k) =>
                          k.frame === before.frame ? { ...k, ease: ease as typeof k.ease } : k,
                        ),
                      }),
                    )
                  }
                />
              </Row>
              <p className="my-1 text-ink-2">
                {keys.length} {keys.length === 1 ? "key" : "keys"}, frames {keys[0]!.frame}–
                {keys.at(-1)!.frame}. Their curve is in the time strip (X).
              </p>
              <button
                className="my-1 font-semibold text-tide"
                onClick={() => onChange(withBase(value, valueAt(withBase(value, { keys }), frame)))}
              >
                Take all keys away
              </button>
            </>
          )}
          <Row label="Wobble" help="It varies by itself, always the same way for the same seed" wide>
            <span className="justify-self-start">
              <OnOff
                label={`Wobble of ${hints.label}`}
                checked={wobble !== null}
                onChange={(on) =>
                  onChange(
                    on
                      ? {
                          base: baseOf(value),
                          wobble: {
                            kind: "smooth",
                            amount: Number(
                              (((hints.soft?.[1] ?? high) - (hints.soft?.[0] ?? low)) / 20).toPrecision(2),
                            ),
                            every: 12,
                            seed: 1,
                          },
                        }
                      : baseOf(value),
                  )
                }
              />
            </span>
          </Row>
          {wobble && (
            <>
              <Row label="As" wide>
                <Choice
                  label="Kind of wobble"
                  value={wobble.kind}
                  names={WOBBLES}
                  onChange={(kind) => set({ kind: kind as Wobble["kind"] })}
                />
              </Row>
              <Row label="Up to" wide>
                <NumberBox
                  label="Wobble amount"
                  value={wobble.amount}
                  low={0}
                  high={high - low}
                  step={step}
                  unit={unit}
                  onCommit={(amount) => set({ amount })}
                />
              </Row>
              <Row label="Every" wide>
                <NumberBox
                  label="Wobble every"
                  value={wobble.every}
                  low={0.25}
                  high={1000}
                  step={0.25}
                  unit="fr"
                  onCommit={(every) => set({ every })}
                />
              </Row>
              <Row label="Seed" wide>
                <NumberBox
                  label="Wobble seed"
                  value={wobble.seed}
                  low={0}
                  high={9999}
                  step={1}
                  unit=""
                  onCommit={(seed) => set({ seed })}
                />
              </Row>
            </>
          )}
          {!isKeyed(value) && (
            <button
              className="mt-1 font-semibold text-tide disabled:text-ink-3"
              disabled={value === hints.default}
              onClick={() => onChange(withValue(baseOf(value), frame, Number(hints.default)))}
            >
              Back to the default
            </button>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
