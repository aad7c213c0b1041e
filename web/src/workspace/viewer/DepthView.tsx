import { useQuery } from "@tanstack/react-query";
import { getPicture, type DepthMotion } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { useWorkspace } from "~/workspace/store";
import { screenMatrix } from "~/workspace/viewer/pictureOverlay";
import type { Mapping } from "~/workspace/viewer/viewport";

const HEADER = "X-Plonket-Depth";

type Told = { how: "measured" | "old" | "none"; near: number; far: number; colours: string[] };

/** A distance in metres, in three figures. */
export const metres = (v: number) => (v >= 100 ? v.toFixed(0) : v >= 10 ? v.toFixed(1) : v.toFixed(2));

/** How far away everything is, in false colours over the picture, with their scale. */
export function DepthView({ motion, mapping }: { motion: DepthMotion; mapping: Mapping }) {
  const { shotId, record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const footage = record.document.footage!;
  const shot = record.document;
  const camera = shot.motions.find((m) => m.id === motion.camera);
  const by = JSON.stringify([
    motion.measurement,
    motion.quality,
    motion.ignored,
    camera?.measurement,
    camera && "room" in camera ? camera.room.scale : 1,
  ]);
  const { data, error } = useQuery({
    queryKey: ["depth", shotId, motion.id, by, frame],
    queryFn: async () => {
      const { url, says } = await getPicture(
        `/shots/${shotId}/motions/${motion.id}/depths/${frame}.png`,
        HEADER,
      );
      return { url, told: JSON.parse(says) as Told };
    },
    enabled: motion.measurement !== null,
    staleTime: Infinity,
    gcTime: 20_000,
    retry: false,
  });
  const says = error
    ? error.message
    : !motion.measurement
      ? "Not measured yet"
      : data?.told.how === "none"
        ? "Nothing is known of this frame"
        : data?.told.how === "old"
          ? "The camera, or what is ignored, has changed since: measure again"
          : undefined;
  const there = data && data.told.how !== "none" ? data : null;
  return (
    <>
      {there && (
        <div
          data-testid="depth"
          data-frame={frame}
          data-how={there.told.how}
          className="pointer-events-none absolute top-0 left-0 origin-top-left opacity-85"
          style={{
            width: footage.width,
            height: footage.height,
            transform: screenMatrix(mapping),
            backgroundImage: `url(${there.url})`,
            backgroundSize: "100% 100%",
          }}
        />
      )}
      {there && <Scale {...there.told} />}
      {says && (
        <p
          role="status"
          className={`absolute top-2 left-1/2 max-w-[80%] -translate-x-1/2 rounded-full px-2.5 py-0.5 text-xs text-white ${error ? "bg-brick" : "bg-black/60"}`}
        >
          {says}
        </p>
      )}
    </>
  );
}

/** What the colours mean, from the nearest to the farthest, evenly along the logarithm. */
function Scale({ near, far, colours }: Told) {
  const marks = [0, 1 / 3, 2 / 3, 1];
  return (
    <div
      aria-label={`Distances from ${metres(near)} to ${metres(far)} m`}
      role="img"
      className="pointer-events-none absolute right-2 bottom-2 w-64 rounded-[7px] bg-black/70 px-3 py-1.5 text-[11px] text-white"
    >
      <div
        className="h-2.5 rounded-sm"
        style={{ background: `linear-gradient(90deg, ${colours.join(", ")})` }}
      />
      <div className="num relative mt-0.5 h-3.5">
        {marks.map((share) => (
          <span
            key={share}
            className="absolute -translate-x-1/2 whitespace-nowrap first:translate-x-0 last:-translate-x-full"
            style={{ left: `${share * 100}%` }}
          >
            {metres(near * (far / near) ** share)}
            {share === 1 && " m"}
          </span>
        ))}
      </div>
      <div className="text-white/70">Hatched: not sure. Clear: not known.</div>
    </div>
  );
}
