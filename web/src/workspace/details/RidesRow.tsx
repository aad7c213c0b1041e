import { followable } from "~/workspace/kinds";
import { Choice } from "~/ui/Choice";
import { useOpenShot } from "~/workspace/context";
import { Row } from "~/workspace/details/Group";
import { useWorkspace } from "~/workspace/store";
import { clipFrame } from "~/workspace/time";

interface Props {
  label: string;
  help?: string;
  value: string;
  /** Whether it may ride on the layer's own picture. */
  own?: boolean;
  onChange: (rides: string, reference_frame: number) => void;
}

/** In whose pixels something is: the footage's, the screen's, its own picture's, or those of a motion or perch. */
export function RidesRow({ label, help = "", value, own = false, onChange }: Props) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const shot = record.document;
  const names: Record<string, string> = { footage: "The footage", screen: "The screen" };
  if (own) names["own"] = "Its own picture";
  for (const m of followable(shot)) names[`to:${m.id}`] = m.name;
  for (const p of shot.perches) names[`to:${p.id}`] = `${p.name} (perch)`;
  return (
    <Row label={label} help={help} wide>
      <Choice
        label={label}
        value={value}
        names={names}
        onChange={(v) => {
          const motion = shot.motions.find((m) => `to:${m.id}` === v);
          onChange(v, motion?.kind === "plane" ? motion.reference_frame : clipFrame(shot.footage, frame));
        }}
      />
    </Row>
  );
}
