import { useQueries } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import type { Layer, Measurement, Motion, Shot, Slip } from "~/api/client";
import { measurementQuery } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { worstFrame } from "~/workspace/details/LayerDetails";
import { apply, type Point } from "~/workspace/geometry";
import { has } from "~/workspace/kinds";
import { useShotSlips } from "~/workspace/slip";
import { findLayer } from "~/workspace/patches";
import { frameFromOwn, type Spaces, useSpaces } from "~/workspace/spaces";
import { type Chosen, act, useWorkspace } from "~/workspace/store";
import { clipRange, frameShowing } from "~/workspace/time";
import { LOST, REASONS, runsOf, TRACKED, UNSURE } from "~/workspace/tracks";

interface Trouble {
  key: string;
  chosen: Chosen;
  name: string;
  says: string;
  from: number;
  to: number;
  go: number;
  at: ((frame: number) => Point) | null;
}

function lostTroubles(motion: Motion, data: Measurement | undefined, first: number, last: number): Trouble[] {
  const whole = data?.whole;
  if (has("motion", motion, "matte") && whole)
    return runsOf(first, last, (f) => whole.state[f] === TRACKED && whole.confidence[f]! < UNSURE).map(
      ([from, to]) => ({
        key: `${motion.id}-${from}`,
        chosen: { kind: "motion", id: motion.id, point: null } as const,
        name: motion.name,
        says: "unsure: click there",
        from,
        to,
        go: from,
        at: null,
      }),
    );
  const tracks =
    motion.kind !== "points"
      ? whole
        ? [{ id: null, name: motion.name, state: whole.state, reason: whole.reason }]
        : []
      : motion.points.flatMap((point) => {
          const track = data?.points.find((p) => p.id === point.id);
          return track ? [{ id: point.id, name: point.name, state: track.state, reason: track.reason }] : [];
        });
  return tracks.flatMap((t) =>
    runsOf(first, last, (f) => t.state[f] === LOST).map(([from, to]) => ({
      key: `${motion.id}-${t.id}-${from}`,
      chosen: { kind: "motion", id: motion.id, point: t.id } as const,
      name: t.name,
      says: REASONS[t.reason[from] ?? 0] ?? "",
      from,
      to,
      go: from,
      at: null,
    })),
  );
}

/** Where the middle of a follower is in a frame, for the loupe. */
const middleOf =
  (layer: Layer, shot: Shot, spaces: Spaces) =>
  (frame: number): Point => {
    if (layer.kind === "still")
      return apply(frameFromOwn(layer, spaces, frame), { x: layer.width / 2, y: layer.height / 2 });
    const plane = layer.kind === "pin" ? shot.motions.find((m) => m.id === layer.plane) : undefined;
    if (plane?.kind !== "plane") return { x: 0, y: 0 };
    // A corner tells more than the middle: there is an edge to see swimming.
    const [x, y] = plane.quad[0];
    return apply(spaces.plane(plane, frame), { x, y });
  };

function slipTroubles(slip: Slip, shot: Shot, spaces: Spaces): Trouble[] {
  const layer = findLayer(shot, slip.layer);
  if (!layer) return [];
  return slip.worst.map((w) => ({
    key: `${slip.layer}-${w.first}`,
    chosen: { kind: "layer", id: layer.id } as const,
    name: layer.name,
    says: `slips ${w.px.toFixed(2)} px`,
    from: w.first,
    to: w.last,
    go: worstFrame(slip.px, w),
    at: middleOf(layer, shot, spaces),
  }));
}

/** Frames that need a look, each one click away; where something slips, the loupe opens on it. */
export function NeedsLook() {
  const { record } = useOpenShot();
  const shot = record.document;
  const spaces = useSpaces();
  const slips = useShotSlips();
  const measured = useQueries({ queries: shot.motions.map((m) => measurementQuery(m.measurement)) });
  const frame = useWorkspace((s) => s.frame);
  // What is measured, and so what is wrong with it, belongs to the clip's frames.
  const [first, last] = shot.footage ? clipRange(shot.footage) : [0, -1];
  const all = [
    ...slips.flatMap((s) => slipTroubles(s, shot, spaces)),
    ...shot.motions.flatMap((m, k) => lostTroubles(m, measured[k]?.data, first, last)),
  ];
  if (!all.length) return null;
  const frames = new Set(all.flatMap((t) => Array.from({ length: t.to - t.from + 1 }, (_, k) => t.from + k)));
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="h-[30px] rounded-[7px] border border-brick/40 bg-brick-2 px-2.5 whitespace-nowrap text-brick">
        {frames.size === 1 ? "1 frame needs a look" : `${frames.size} frames need a look`}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          sideOffset={6}
          align="end"
          className="z-50 max-h-80 w-80 overflow-y-auto rounded-lg border border-line bg-raise p-1 shadow-xl"
        >
          {all.map((t) => (
            <DropdownMenu.Item
              key={t.key}
              className="flex cursor-pointer justify-between gap-3 rounded-md px-2.5 py-1.5 outline-none data-[highlighted]:bg-tide-2"
              onSelect={() => {
                const go = frameShowing(shot.footage, t.go, frame);
                act({ do: "choose", chosen: t.chosen });
                act({ do: "frame", frame: go });
                if (t.at) act({ do: "loupe", at: t.at(go) });
              }}
            >
              <span>
                {t.name} <span className="text-ink-2">{t.says}</span>
              </span>
              <span className="num text-brick">{t.from === t.to ? t.from : `${t.from}–${t.to}`}</span>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
