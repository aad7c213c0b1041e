import type { PlateLayer } from "~/api/client";
import { Button } from "~/ui/Button";
import { FRONTS, useBringForward } from "~/workspace/actions/front";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { placeOf } from "~/workspace/patches";
import { act, useWorkspace, viewOf } from "~/workspace/store";

/** The ways to put something behind part of the footage, as buttons. */
export function BehindFootage() {
  const forward = useBringForward();
  return (
    <Group title="Put something behind it">
      <div className="flex flex-col gap-1.5">
        {FRONTS.map((one) => (
          <button
            key={one.what}
            className="rounded-lg border border-line bg-raise px-2.5 py-1.5 text-left hover:border-tide"
            onClick={() => void forward(one)}
          >
            <b className="block text-[12.5px] font-semibold">{one.label}</b>
            <span className="text-xs text-ink-2">{one.hint}</span>
          </button>
        ))}
      </div>
    </Group>
  );
}

/** What is behind the footage, and what is to be done next. */
export function WhatIsBehind({ layer }: { layer: PlateLayer }) {
  const { record } = useOpenShot();
  const view = useWorkspace((s) => viewOf(s.shown));
  const shot = record.document;
  const { stack, at } = placeOf(shot, layer.id);
  const behind = stack.slice(at + 1).filter((l) => l.kind !== "plate");
  const drawn = layer.key?.kind !== "cutout" || layer.key.strokes.some((s) => s.subject);
  const checking = view === "matte" && layer.key !== null;
  const next = !drawn
    ? "Draw over what should stand in front, then over what is not it. It is cut there and carried through the clip."
    : layer.key?.kind === "colours" && !layer.key.colours.length
      ? "Pick the colours that let through what is behind: click on them in the picture, or drag over some of it."
      : checking
        ? "White stays in front, black lets through what is behind. Put it right below, or draw masks that are kept from the key."
        : !layer.key && !layer.masks.length
          ? "Nothing is cut yet: choose a key, or draw a mask round what stands in front."
          : behind.length
            ? null
            : "Nothing lies behind it yet. What you plonk while it is chosen goes behind.";
  return (
    <Group title="What is behind">
      {next && <p className="mb-1.5 text-xs text-ink-2">{next}</p>}
      {behind.length > 0 && (
        <p className="mb-1.5 text-xs">
          Behind it:{" "}
          {behind.slice(0, 4).map((l, k) => (
            <button
              key={l.id}
              className="font-semibold text-tide"
              onClick={() => act({ do: "choose", chosen: { kind: "layer", id: l.id } })}
            >
              {k > 0 && ", "}
              {l.name}
            </button>
          ))}
          {behind.length > 4 && ` and ${behind.length - 4} more`}
        </p>
      )}
      <span className="flex gap-1.5">
        {checking ? (
          <Button onClick={() => act({ do: "show", shown: { kind: "final" } })}>Show the picture</Button>
        ) : (
          <Button onClick={() => act({ do: "open", what: "shelf", on: true })}>Plonk behind it …</Button>
        )}
        {!checking && layer.key && (
          <Button onClick={() => act({ do: "show", shown: { kind: "matte" } })}>Show the matte</Button>
        )}
      </span>
    </Group>
  );
}
