import { Trash2 } from "lucide-react";
import type { Treatment } from "~/api/client";
import { Button } from "~/ui/Button";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Ahead } from "~/workspace/details/Ahead";
import { CleanFrames } from "~/workspace/details/CleanFrames";
import { Row, Title } from "~/workspace/details/Group";
import { MaskGroup } from "~/workspace/details/MaskGroup";
import { Duplicate } from "~/workspace/details/StackParts";
import { Path } from "~/workspace/details/PlatePath";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { HoldsOn, Readout, type SetValues, WorkHeld } from "~/workspace/details/SteadyParts";
import { GrainBack } from "~/workspace/details/GrainBack";
import { groupsOf, has, kindOf, told } from "~/workspace/kinds";
import { setOnPlate } from "~/workspace/patches";
import { act } from "~/workspace/store";

/** A treatment of the plate: what it holds on to, and how. */
export function PlateDetails({ treatment }: { treatment: Treatment }) {
  const { edits } = useOpenShot();
  const kind = kindOf("treatment", treatment.kind);
  const set: SetValues = (label, values) =>
    void edits.edit(label, (latest) => setOnPlate(latest, treatment.id, values));
  return (
    <>
      <Title
        title={treatment.name}
        sub={told(kind?.says, treatment)}
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
      {"masks" in treatment && (
        <MaskGroup
          help={
            has("treatment", treatment, "everywhere")
              ? "Without a mask it works all over the picture."
              : "Draw round what it should cover."
          }
        />
      )}
      {treatment.shown && !("masks" in treatment) && <Path treatment={treatment} />}
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, treatment)}
          values={treatment as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${treatment.name}`, { [field]: value })}
        />
      )}
      {treatment.kind === "degrain" && <GrainBack />}
      {"masks" in treatment &&
        treatment.shown &&
        (treatment.masks.length > 0 || has("treatment", treatment, "everywhere")) && <Ahead />}
      <div className="flex gap-2 border-t border-line pt-3">
        {treatment.kind === "steady" && (
          <Button onClick={() => act({ do: "tool", tool: { kind: "middle" } })}>
            Put a spot in the middle
          </Button>
        )}
        <span className="flex-1" />
        {treatment.kind !== "steady" && <Duplicate thing={treatment} sort="plate" />}
        <Button
          aria-label={`Remove ${treatment.name}`}
          onClick={() => {
            void edits.operate({ do: "remove", thing: treatment.id });
            act({ do: "choose", chosen: { kind: "none" } });
          }}
        >
          <Trash2 className="size-3.5" />
        </Button>
      </div>
    </>
  );
}
