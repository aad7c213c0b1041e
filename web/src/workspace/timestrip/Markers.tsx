import { useCallback, useState } from "react";
import { Popover } from "radix-ui";
import { Trash2 } from "lucide-react";
import type { Marker, PatchStep, Shot } from "~/api/client";
import { dragFrom } from "~/ui/drag";
import { Button } from "~/ui/Button";
import { useOpenShot } from "~/workspace/context";
import { freshName, freshShotId } from "~/workspace/patches";
import { act } from "~/workspace/store";
import { frameAt, type Scale, xOf } from "~/workspace/timestrip/scale";

/** Sets values of a marker, which may lie elsewhere in the list by now. */
const setOnMarker = (shot: Shot, id: string, values: Partial<Marker>): PatchStep[] => {
  const at = shot.markers.findIndex((m) => m.id === id);
  if (at < 0) return [];
  return [
    { op: "test", path: `/markers/${at}/id`, value: id },
    ...Object.entries(values).map(([key, value]) => ({
      op: "replace" as const,
      path: `/markers/${at}/${key}`,
      value,
    })),
  ];
};

/** Puts a marker at a frame. */
export function useAddMarker() {
  const { edits } = useOpenShot();
  return useCallback(
    (frame: number) =>
      void edits.edit(`A marker at frame ${frame}`, (shot) => {
        if (shot.markers.some((m) => m.frame === frame)) return [];
        const value = { id: freshShotId("marker", shot), name: freshName("Marker", shot.markers), frame };
        return [{ op: "add", path: "/markers/-", value }];
      }),
    [edits],
  );
}

/** Flags in the ruler: drag one, press it to name it or take it away. */
export function Markers({ scale }: { scale: Scale }) {
  const { record } = useOpenShot();
  return record.document.markers
    .filter((m) => m.frame < scale.frames)
    .map((m) => <Flag key={m.id} marker={m} scale={scale} />);
}

function Flag({ marker, scale }: { marker: Marker; scale: Scale }) {
  const { edits } = useOpenShot();
  const [live, setLive] = useState<number | null>(null);
  const [open, setOpen] = useState(false);
  const frame = live ?? marker.frame;
  const move = (to: number) => {
    if (to === marker.frame) return setLive(null);
    void edits
      .edit(`Move ${marker.name}`, (shot) => setOnMarker(shot, marker.id, { frame: to }))
      .finally(() => setLive(null));
  };
  const rename = (name: string) => {
    const said = name.trim();
    if (said && said !== marker.name)
      void edits.edit(`Rename to ${said}`, (shot) => setOnMarker(shot, marker.id, { name: said }));
  };
  const press = (e: React.PointerEvent<HTMLButtonElement>) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    const box = e.currentTarget.closest("[data-testid=lanes]")!.getBoundingClientRect();
    let to = marker.frame;
    let moved = false;
    dragFrom(
      e,
      (m) => {
        moved ||= Math.abs(m.clientX - e.clientX) > 3;
        if (!moved) return;
        to = frameAt(scale, m.clientX - box.left);
        setLive(to);
      },
      (letGo) => {
        if (!letGo) return setLive(null);
        if (moved) return move(to);
        act({ do: "frame", frame: marker.frame });
        setOpen(true);
      },
    );
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Anchor asChild>
        <button
          aria-label={`Marker ${marker.name} at frame ${frame}`}
          title={`${marker.name}, frame ${frame}`}
          data-marker={marker.id}
          className="absolute top-0 z-[1] flex h-[13px] max-w-28 touch-none items-center gap-1 rounded-r-[4px] border-l-2 border-saffron bg-saffron-2 pr-1.5 pl-1 text-[10.5px] text-ink"
          style={{ left: xOf(scale, frame) - 1 }}
          onPointerDown={press}
          onKeyDown={(e) => {
            const by = e.key === "ArrowLeft" ? -1 : e.key === "ArrowRight" ? 1 : 0;
            if (by) {
              e.preventDefault();
              e.stopPropagation();
              move(Math.max(0, Math.min(scale.frames - 1, marker.frame + by * (e.shiftKey ? 10 : 1))));
            } else if (e.key === "Enter" || e.key === " ") {
              e.preventDefault();
              e.stopPropagation();
              setOpen(true);
            }
          }}
        >
          <span className="truncate">{marker.name}</span>
        </button>
      </Popover.Anchor>
      <Popover.Portal>
        <Popover.Content
          side="top"
          sideOffset={6}
          aria-label={marker.name}
          // In the page's tree it lies in the strip, which would scrub.
          onPointerDown={(e) => e.stopPropagation()}
          className="z-50 flex items-center gap-1.5 rounded-lg border border-line bg-raise p-2 text-ink shadow-xl"
        >
          <input
            aria-label="Name of the marker"
            maxLength={80}
            className="h-7 w-40 rounded-md border border-line bg-sheet px-2"
            defaultValue={marker.name}
            onBlur={(e) => rename(e.target.value)}
            onKeyDown={(e) => {
              e.stopPropagation();
              if (e.key !== "Enter") return;
              e.currentTarget.blur();
              setOpen(false);
            }}
          />
          <Button
            aria-label={`Remove ${marker.name}`}
            onClick={() => {
              setOpen(false);
              void edits.edit(`Remove ${marker.name}`, (shot) => {
                const at = shot.markers.findIndex((m) => m.id === marker.id);
                return at < 0 ? [] : [{ op: "remove", path: `/markers/${at}` }];
              });
            }}
          >
            <Trash2 className="size-3.5" />
          </Button>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
