import { useQueries } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import type { Measurement, PointMotion } from "~/api/client";
import { measurementQuery } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { act } from "~/workspace/store";
import { LOST, REASONS } from "~/workspace/tracks";

interface Trouble {
  motion: PointMotion;
  point: string;
  name: string;
  from: number;
  to: number;
  reason: string;
}

function troublesOf(
  motion: PointMotion,
  data: Measurement | undefined,
  first: number,
  last: number,
): Trouble[] {
  const out: Trouble[] = [];
  for (const point of motion.points) {
    const track = data?.points.find((p) => p.id === point.id);
    if (!track) continue;
    for (let f = first; f <= last; f++) {
      if (track.state[f] !== LOST) continue;
      const open = out.at(-1);
      if (open?.point === point.id && open.to === f - 1) open.to = f;
      else {
        const reason = REASONS[track.reason[f] ?? 0] ?? "";
        out.push({ motion, point: point.id, name: point.name, from: f, to: f, reason });
      }
    }
  }
  return out;
}

/** Frames that need a look, each one click away. */
export function NeedsLook() {
  const { record } = useOpenShot();
  const { motions, footage } = record.document;
  const measured = useQueries({ queries: motions.map((m) => measurementQuery(m.measurement)) });
  const all = motions.flatMap((m, k) =>
    troublesOf(m, measured[k]?.data, footage?.in_frame ?? 0, footage?.out_frame ?? -1),
  );
  if (!all.length) return null;
  const frames = all.reduce((n, t) => n + t.to - t.from + 1, 0);
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="h-[30px] rounded-[7px] border border-brick/40 bg-brick-2 px-2.5 whitespace-nowrap text-brick">
        {frames === 1 ? "1 frame needs a look" : `${frames} frames need a look`}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          sideOffset={6}
          align="end"
          className="z-50 max-h-80 w-72 overflow-y-auto rounded-lg border border-line bg-raise p-1 shadow-xl"
        >
          {all.map((t) => (
            <DropdownMenu.Item
              key={`${t.motion.id}-${t.point}-${t.from}`}
              className="flex cursor-pointer justify-between gap-3 rounded-md px-2.5 py-1.5 outline-none data-[highlighted]:bg-tide-2"
              onSelect={() => {
                act({ do: "choose", chosen: { kind: "motion", id: t.motion.id, point: t.point } });
                act({ do: "frame", frame: t.from });
              }}
            >
              <span>
                {t.name} <span className="text-ink-2">{t.reason}</span>
              </span>
              <span className="num text-brick">{t.from === t.to ? t.from : `${t.from}–${t.to}`}</span>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
