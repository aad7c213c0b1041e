import { followable } from "~/workspace/kinds";
import { useMemo } from "react";
import type { Follow, FieldHints, JsonSchema } from "~/api/client";
import { useKinds } from "~/api/queries";
import { Choice } from "~/ui/Choice";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { act } from "~/workspace/store";
import { frameShowing } from "~/workspace/time";

/** The schema of `Follow`, which every follower's settings carry along. */
function useFollowSchema(): JsonSchema | undefined {
  const { data: kinds } = useKinds("layer");
  return useMemo(() => kinds?.flatMap((k) => k.schema.$defs?.["Follow"] ?? [])[0], [kinds]);
}

/** What is followed, from which frame, and which parts of its movement: the same for all followers. */
export function FollowRows({
  follow,
  self,
  onTarget,
  onChange,
}: {
  follow: Follow;
  /** The follower's own id: a perch cannot sit on itself. */
  self: string;
  onTarget: (target: string | null) => void;
  onChange: (label: string, follow: Follow) => void;
}) {
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const shot = record.document;
  const schema = useFollowSchema();
  const above = (id: string): boolean => {
    if (id === self) return true;
    const perch = shot.perches.find((p) => p.id === id);
    return perch?.follow.target ? above(perch.follow.target) : false;
  };
  const names: Record<string, string> = { none: "Nothing (stays put)" };
  for (const m of followable(shot)) names[m.id] = m.name;
  for (const p of shot.perches) if (!above(p.id)) names[p.id] = `${p.name} (perch)`;
  const onPerch = shot.perches.some((p) => p.id === follow.target);
  const parts = ["shift", "turn", "size", "perspective", "inverted"] as const;
  const hints = (part: string): FieldHints | undefined => schema?.properties?.[part]?.["x-plonket"];
  return (
    <Group title="Follows">
      <Row label="Motion" wide>
        <Choice
          label="Motion it follows"
          value={follow.target ?? "none"}
          names={names}
          onChange={(v) => onTarget(v === "none" ? null : v)}
        />
      </Row>
      {follow.target && (
        <>
          {!onPerch && (
            <Row label="From frame" wide>
              <button
                className="num justify-self-start text-tide underline"
                onClick={() => act({ do: "frame", frame: frameShowing(footage, follow.reference_frame) })}
              >
                {follow.reference_frame}
              </button>
            </Row>
          )}
          {parts.map((part) => {
            const covered = follow.perspective && (part === "turn" || part === "size");
            if (covered || (part === "inverted" && onPerch)) return null;
            return (
              <Row key={part} label={hints(part)?.label ?? part} help={hints(part)?.help ?? ""} wide>
                <span className="justify-self-start">
                  <OnOff
                    label={`Follow ${part}`}
                    checked={follow[part]}
                    onChange={(on) => onChange(`Follow ${part}`, { ...follow, [part]: on })}
                  />
                </span>
              </Row>
            );
          })}
          {schema && !onPerch && (
            <SchemaForm
              schema={{ properties: { smooth: schema.properties?.["smooth"] ?? {} } }}
              groups={["Follow"]}
              bare
              values={follow as unknown as Record<string, unknown>}
              onChange={(field, value, label) =>
                onChange(`${label} following`, { ...follow, [field]: value })
              }
            />
          )}
        </>
      )}
    </Group>
  );
}
