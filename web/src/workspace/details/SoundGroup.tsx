import { useQuery } from "@tanstack/react-query";
import { get, type Loudness } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, kindOf } from "~/workspace/kinds";

/** How the clip's sound is laid under the shot, and how loud it is. */
export function SoundGroup() {
  const { record, edits } = useOpenShot();
  const { sound } = record.document;
  const kind = kindOf("footage", "sound");
  return (
    <Group title="Sound">
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, sound)}
          bare
          values={sound as unknown as Record<string, unknown>}
          onChange={(field, value, label) =>
            void edits.edit(`${label} of the sound`, [{ op: "replace", path: `/sound/${field}`, value }])
          }
        />
      )}
      <HowLoud />
    </Group>
  );
}

/** What was measured of the range, and what will be delivered. */
export function HowLoud() {
  const { record, shotId } = useOpenShot();
  const { sound, footage } = record.document;
  const { data } = useQuery({
    queryKey: ["loudness", shotId, footage?.asset, footage?.in_frame, footage?.out_frame, sound],
    queryFn: () => get<Loudness>(`/shots/${shotId}/loudness`),
    placeholderData: (before) => before,
  });
  if (!data) return null;
  if (data.lufs === null) return <p className="mt-1 text-xs text-ink-2">Nothing is heard in this range.</p>;
  const target = sound.level === "as it is" ? null : Number(sound.level);
  const short = target !== null && data.finished !== null && data.finished < target - 0.5;
  return (
    <p className="mt-1 rounded-md bg-paper px-2 py-1 text-xs text-ink-2" data-testid="loudness">
      <span className="num">{data.lufs.toFixed(1)} LUFS</span>
      {data.peak !== null && (
        <>
          , peaks at <span className="num">{data.peak.toFixed(1)} dB</span>
        </>
      )}
      {target !== null && data.finished !== null && (
        <span className={`block ${short ? "text-brick" : ""}`}>
          Delivered at <span className="num">{data.finished.toFixed(1)} LUFS</span>
          {short && ": its peaks allow no more"}
        </span>
      )}
    </p>
  );
}
