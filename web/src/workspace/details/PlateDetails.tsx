import { Trash2 } from "lucide-react";
import type { Treatment } from "~/api/client";
import { useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Ahead } from "~/workspace/details/Ahead";
import { CleanFrames } from "~/workspace/details/CleanFrames";
import { Row, Title } from "~/workspace/details/Group";
import { MaskGroup } from "~/workspace/details/MaskGroup";
import { Path } from "~/workspace/details/PlatePath";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { HoldsOn, Readout, type SetValues, WorkHeld } from "~/workspace/details/SteadyParts";
import { setOnPlate } from "~/workspace/patches";
import { act } from "~/workspace/store";

/** The groups of settings that mean something as the others are set. */
const groupsOf = (t: Treatment): string[] =>
  t.kind === "handheld"
    ? ["Shake"]
    : t.kind === "mend"
      ? ["Mend", ...(t.method === "edges" ? ["From its edges"] : [])]
      : t.kind === "clean"
        ? ["Clean frame", "Levels", "Line it up"]
        : [
            "Steady",
            ...(t.mode === "smooth" ? ["Smooth"] : []),
            "Parts",
            ...(t.perspective ? [] : ["Only these parts"]),
            ...(t.give_back ? [] : ["Borders"]),
            "Frame it",
          ];
const SUBS = {
  steady: "The clip held on what you choose. Everything stacked on it goes along.",
  mend: "Taken out of the footage, in every frame, where its masks are.",
  clean: "A frame put right once, cut to its masks, carried through the shot in each frame's light.",
  handheld: "A natural shake, the same every time for the same seed.",
};

/** A treatment of the plate: what it holds on to, and how. */
export function PlateDetails({ treatment }: { treatment: Treatment }) {
  const { edits } = useOpenShot();
  const { data: kinds } = useKinds("treatment");
  const schema = kinds?.find((k) => k.kind === treatment.kind)?.schema;
  const set: SetValues = (label, values) =>
    void edits.edit(label, (latest) => setOnPlate(latest, treatment.id, values));
  return (
    <>
      <Title
        title={treatment.name}
        sub={SUBS[treatment.kind]}
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <Row label="On" wide>
        <span className="justify-self-start">
          <OnOff
            label={`${treatment.name} on`}
            checked={treatment.shown}
            onChange={(shown) => set(`${treatment.name} ${shown ? "on" : "off"}`, { shown })}
          />
        </span>
      </Row>
      {treatment.kind === "steady" && <HoldsOn steady={treatment} set={set} />}
      {treatment.kind === "steady" && <Readout steady={treatment} set={set} />}
      {treatment.kind === "steady" && treatment.give_back && <WorkHeld />}
      {treatment.kind === "clean" && <CleanFrames clean={treatment} />}
      {"masks" in treatment && <MaskGroup help="Draw round what it should cover." />}
      {treatment.shown && !("masks" in treatment) && <Path treatment={treatment} />}
      {schema && (
        <SchemaForm
          schema={schema}
          groups={groupsOf(treatment)}
          values={treatment as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${treatment.name}`, { [field]: value })}
        />
      )}
      {"masks" in treatment && treatment.shown && treatment.masks.length > 0 && <Ahead />}
      <div className="flex gap-2 border-t border-line pt-3">
        {treatment.kind === "steady" && (
          <Button onClick={() => act({ do: "tool", tool: "middle" })}>Put a spot in the middle</Button>
        )}
        <span className="flex-1" />
        <Button
          aria-label={`Remove ${treatment.name}`}
          onClick={() => {
            void edits.remove(treatment.id);
            act({ do: "choose", chosen: { kind: "none" } });
          }}
        >
          <Trash2 className="size-3.5" />
        </Button>
      </div>
    </>
  );
}
