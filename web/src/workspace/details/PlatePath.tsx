import { useQuery } from "@tanstack/react-query";
import type { Handheld, Steady } from "~/api/client";
import { viewQuery } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { Group } from "~/workspace/details/Group";
import { useWorkspace } from "~/workspace/store";

/** The path before and after over time, and how much is zoomed. */
export function Path({ treatment }: { treatment: Steady | Handheld }) {
  const { record, shotId } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const { data } = useQuery(viewQuery(record));
  const footage = record.document.footage!;
  const held =
    treatment.kind !== "steady" ||
    record.document.motions.some((m) => treatment.targets.includes(m.id) && m.measurement);
  if (!data?.matrices.length || !held) return null;
  const span = (rows: number[][]) => rows.slice(footage.in_frame, footage.out_frame + 1);
  const zoom = data.zoom.slice(footage.in_frame, footage.out_frame + 1);
  const [low, high] = [Math.min(...zoom), Math.max(...zoom)];
  const times = (z: number) => `${z.toFixed(2)}×`;
  return (
    <Group title="Path">
      {treatment.kind === "steady" && (
        <>
          {(["x", "y"] as const).map((axis, k) => (
            <PathLine
              key={axis}
              axis={axis}
              before={span(data.before).map((p) => p[k]!)}
              after={span(data.after).map((p) => p[k]!)}
              at={(frame - footage.in_frame) / Math.max(footage.out_frame - footage.in_frame, 1)}
            />
          ))}
          <p className="mb-1 flex gap-4 text-[11px] text-ink-2">
            <span>
              <i
                aria-hidden
                className="mr-1 inline-block w-4 border-t border-dashed border-ink-3 align-middle"
              />
              as filmed
            </span>
            <span>
              <i aria-hidden className="mr-1 inline-block w-4 border-t-2 border-tide align-middle" />
              steadied
            </span>
          </p>
        </>
      )}
      <p className="text-xs text-ink-2">
        {high > 1.0005 ? (
          <>
            Zoomed <span className="num">{times(high)}</span>
            {high - low > 0.004 && (
              <>
                , at least <span className="num">{times(low)}</span>
              </>
            )}{" "}
            to hide the borders.
          </>
        ) : (
          "Not zoomed."
        )}
      </p>
      {data.says && <p className="mt-1 rounded-md bg-brick-2 px-2 py-1 text-xs text-brick">{data.says}</p>}
      <p className="mt-2 flex items-center gap-1.5 text-xs text-ink-2">
        As a file
        {[
          { form: "csv", label: "CSV" },
          { form: "json", label: "JSON" },
        ].map(({ form, label }) => (
          <a
            key={form}
            className="rounded-[7px] border border-line bg-raise px-2 py-1"
            href={`/api/shots/${shotId}/view/moves.${form}`}
            title="How each frame is moved; the JSON comes back as a surface to steady by"
            download
          >
            {label}
          </a>
        ))}
      </p>
    </Group>
  );
}

const WIDE = 240;
const TALL = 34;

function PathLine({
  axis,
  before,
  after,
  at,
}: {
  axis: string;
  before: number[];
  after: number[];
  at: number;
}) {
  const all = [...before, ...after];
  const [low, high] = [Math.min(...all), Math.max(...all)];
  const room = Math.max(high - low, 2);
  const d = (rows: number[]) =>
    rows
      .map((v, k) => {
        const x = (k / Math.max(rows.length - 1, 1)) * WIDE;
        const y = 3 + ((v - (low + high) / 2) / room + 0.5) * (TALL - 6);
        return `${k ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`;
      })
      .join("");
  return (
    <div className="mb-1 flex items-center gap-2">
      <span className="num w-3 text-[11px] text-ink-3">{axis}</span>
      <svg
        viewBox={`0 0 ${WIDE} ${TALL}`}
        preserveAspectRatio="none"
        className="h-[34px] min-w-0 flex-1 rounded bg-paper"
        role="img"
        aria-label={`Path in ${axis}: ${room.toFixed(0)} px as filmed and steadied`}
      >
        <path
          d={d(before)}
          fill="none"
          stroke="var(--ink-3)"
          strokeWidth="1"
          strokeDasharray="3 2"
          vectorEffect="non-scaling-stroke"
        />
        <path
          d={d(after)}
          fill="none"
          stroke="var(--tide)"
          strokeWidth="2"
          vectorEffect="non-scaling-stroke"
        />
        {at >= 0 && at <= 1 && (
          <path
            d={`M${at * WIDE} 0V${TALL}`}
            stroke="var(--ink)"
            strokeWidth="1"
            vectorEffect="non-scaling-stroke"
          />
        )}
      </svg>
      <span className="num w-12 text-right text-[11px] text-ink-3">{(high - low).toFixed(0)} px</span>
    </div>
  );
}
