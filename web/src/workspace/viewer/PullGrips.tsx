import { useState } from "react";
import type { CameraMotion, RoomDetail } from "~/api/client";
import { usePull } from "~/workspace/actions/camera";
import type { RoomCamera } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import type { Point } from "~/workspace/geometry";
import { useWorkspace } from "~/workspace/store";
import { Handle } from "~/workspace/viewer/Handle";
import type { Grab } from "~/workspace/viewer/useGrab";

/** More would hide the picture. */
const MOST = 12;

/**
 * Where a camera puts the picked details: pulled to where they belong, the camera is turned in this frame. The other picked
 * ones are to lie where they are seen.
 */
export function PullGrips({
  motion,
  camera,
  details,
  seen,
  at,
  hand,
}: {
  motion: CameraMotion;
  camera: RoomCamera;
  details: readonly RoomDetail[];
  seen: (d: RoomDetail, frame: number) => Point | null;
  at: (p: Point) => Point;
  hand: Grab;
}) {
  const frame = useWorkspace((w) => w.frame);
  const { record } = useOpenShot();
  const pull = usePull();
  const [pulled, setPulled] = useState<{ id: string; to: Point } | null>(null);
  // Keys lie on the clip's own frames.
  if (record.document.footage?.time != null) return null;
  const picked = details.slice(0, MOST);
  return (
    <g data-testid="pull-grips">
      {picked.map((d) => {
        const lies = camera.project(frame, camera.inRoom(d.place));
        if (!lies) return null;
        const now = at(pulled?.id === d.id ? pulled.to : lies);
        const belongs = seen(d, frame);
        const end = belongs && at(belongs);
        const release = (to: Point) => {
          const others = picked.flatMap((o) => {
            const p = o.id === d.id ? null : seen(o, frame);
            return p ? [{ detail: o.id, ...p }] : [];
          });
          return pull(motion.id, frame, [{ detail: d.id, ...to }, ...others]).finally(() => setPulled(null));
        };
        return (
          <Handle
            key={d.id}
            at={now}
            label="Where the camera puts this detail"
            title="Where the camera puts this detail: pull it to where it belongs. Alt moves it by tenths"
            hand={hand}
            hold={() => ({
              from: lies,
              move: (to) => setPulled({ id: d.id, to }),
              end: (to) => (to ? release(to) : setPulled(null)),
            })}
          >
            {end && (
              <path
                d={`M${now.x} ${now.y}L${end.x} ${end.y}`}
                stroke="var(--spark)"
                strokeWidth="1.6"
                strokeDasharray="3 3"
              />
            )}
            <path
              d={`M${now.x - 9} ${now.y}h18M${now.x} ${now.y - 9}v18`}
              stroke="var(--grip-edge)"
              strokeWidth="4"
            />
            <path
              d={`M${now.x - 9} ${now.y}h18M${now.x} ${now.y - 9}v18`}
              stroke="var(--spark)"
              strokeWidth="2"
            />
          </Handle>
        );
      })}
    </g>
  );
}
