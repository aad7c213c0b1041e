import { Trash2 } from "lucide-react";
import type { DeliveryFrame } from "~/api/client";
import { useBoxes } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Group, Row, Title } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { Duplicate } from "~/workspace/details/StackParts";
import { has, kindOf } from "~/workspace/kinds";
import { round, setOnFrame } from "~/workspace/patches";
import { ratioOf } from "~/workspace/runsheet/FrameCards";
import { act, useWorkspace } from "~/workspace/store";
import { clipFrame } from "~/workspace/time";

/** The part of the picture that is delivered: its shape and pixels, where it lies, and what it follows. */
export function FrameDetails({ frame }: { frame: DeliveryFrame }) {
  const { record, edits } = useOpenShot();
  const at = useWorkspace((s) => s.frame);
  const safe = useWorkspace((s) => s.safeAreas);
  const { data } = useBoxes(record, frame);
  const kind = kindOf("frame", "frame");
  const shot = record.document;
  const footage = shot.footage;
  if (!kind || !footage) return null;
  const set = (label: string, values: Partial<DeliveryFrame>) =>
    void edits.edit(label, setOnFrame(shot, frame.id, values));
  const names: Record<string, string> = { none: "Nothing (stays put)" };
  for (const m of shot.motions)
    if (!has("motion", m, "unfollowed") || has("motion", m, "matte")) names[m.id] = m.name;
  const leader = shot.motions.find((m) => m.id === frame.target);
  const ofMatte = has("motion", leader, "matte");
  const ratio = ratioOf(frame);
  // How much the largest frame of this shape must grow to take all of the picture in.
  const whole = Math.max(footage.width / footage.height / ratio, ratio / (footage.width / footage.height));
  const follow = (id: string | null) => {
    const box = data?.boxes[at];
    const middle = box
      ? { x: round(box[0]! + box[2]! / 2), y: round(box[1]! + box[3]! / 2) }
      : { x: footage.width / 2, y: footage.height / 2 };
    const next = shot.motions.find((m) => m.id === id);
    // From a matte places are counted from its middle: that is what is kept in the middle.
    const place = has("motion", next, "matte") ? { x: 0, y: 0 } : middle;
    set(next ? `${frame.name} follows ${next.name}` : `${frame.name} stays put`, {
      target: id,
      reference_frame: clipFrame(footage, at),
      ...place,
    });
  };
  const outside = (data?.boxes ?? [])
    .slice(footage.in_frame, footage.out_frame + 1)
    .some(
      ([x = 0, y = 0, w = 0, h = 0]) =>
        x < -1 || y < -1 || x + w > footage.width + 1 || y + h > footage.height + 1,
    );
  const groups = ["Frame", "Place", ...(frame.target ? ["Follow"] : []), ...(outside ? ["Beyond"] : [])];
  return (
    <>
      <Title
        title={frame.name}
        sub={
          data ? (
            <>
              Delivered at <span className="num">{`${data.width} × ${data.height}`}</span>
              {data.enlarged > 1.02 && (
                <span className="text-brick">
                  {" "}
                  · enlarged <span className="num">{data.enlarged.toFixed(1)}</span> times
                </span>
              )}
            </>
          ) : (
            "The part of the picture that is delivered"
          )
        }
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <Group title="Follows">
        <Row label="Motion" help="What it keeps in the same place of the frame" wide>
          <Choice
            label="Motion it follows"
            value={frame.target ?? "none"}
            names={names}
            onChange={(v) => follow(v === "none" ? null : v)}
          />
        </Row>
        {leader && !leader.measurement && (
          <p className="text-xs text-brick">
            {leader.name} is not measured yet: the frame stays where it is.
          </p>
        )}
        {!frame.target && (
          <p className="text-xs text-ink-2">
            Pick somebody out as a matte, and the frame keeps them in the middle; or drag and key it.
          </p>
        )}
        {ofMatte && (
          <p className="text-xs text-ink-2">Its middle is kept; across and down move it from there.</p>
        )}
      </Group>
      <SchemaForm
        schema={kind.schema}
        groups={groups}
        values={frame as unknown as Record<string, unknown>}
        leaveOut={frame.beyond === "colour" ? [] : ["colour"]}
        onChange={(field, value, label) => set(`${label} of ${frame.name}`, { [field]: value })}
      />
      <Group title="Looking">
        <Row label="Safe areas" help="Marks what captions and buttons lie over; not delivered" wide>
          <span className="justify-self-start">
            <OnOff label="Safe areas" checked={safe} onChange={(on) => act({ do: "safeAreas", on })} />
          </span>
        </Row>
        <span className="mt-1.5 flex flex-wrap gap-1.5">
          <Button
            title="As large as fits into the picture"
            onClick={() => set(`${frame.name} fills`, { size: 100 })}
          >
            Fill
          </Button>
          <Button
            title="All of the picture, with what lies beyond it"
            onClick={() => set(`${frame.name} takes all in`, { size: round(100 * whole) })}
          >
            Whole picture
          </Button>
        </span>
      </Group>
      <div className="flex gap-2 border-t border-line pt-3">
        <span className="flex-1" />
        <Duplicate thing={frame} sort="frame" />
        <Button
          aria-label={`Remove ${frame.name}`}
          onClick={() => {
            void edits.operate({ do: "remove", thing: frame.id });
            act({ do: "choose", chosen: { kind: "none" } });
          }}
        >
          <Trash2 className="size-3.5" />
        </Button>
      </div>
    </>
  );
}
