import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { getPicture, type MatteMotion } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { setOnMotion } from "~/workspace/patches";
import { useWorkspace } from "~/workspace/store";
import { screenMatrix } from "~/workspace/viewer/pictureOverlay";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

const HEADER = "X-Plonket-Matte";
const SAYS: Record<string, string> = {
  clicked: "As clicked: measure it to carry it through the clip",
  old: "As it was measured before: measure again",
  none: "Not measured here yet",
};

/** What a matte covers, laid over the picture, and the clicks and boxes that say so. */
export function MatteHandles({
  motion,
  mapping,
  still,
}: {
  motion: MatteMotion;
  mapping: Mapping;
  still: boolean;
}) {
  const { shotId, record, edits } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const footage = record.document.footage!;
  const staked =
    motion.clicks.some((c) => c.subject && c.frame === frame) || motion.boxes.some((b) => b.frame === frame);
  const given = JSON.stringify([motion.clicks, motion.boxes, motion.edge, motion.band]);
  const { data, error, isFetching } = useQuery({
    queryKey: ["matte", shotId, motion.id, motion.measurement, given, frame],
    queryFn: () => getPicture(`/shots/${shotId}/motions/${motion.id}/mattes/${frame}.png`, HEADER),
    enabled: staked || motion.measurement !== null,
    staleTime: Infinity,
    gcTime: 20_000,
    retry: false,
  });
  const late = useLate(isFetching && !data);
  const says = error
    ? error.message
    : late
      ? "Looking at what is there …"
      : data
        ? SAYS[data.says]
        : !motion.clicks.length && !motion.boxes.length
          ? "Click on a person or a thing"
          : !staked && !motion.measurement
            ? "Nothing clicked in this frame"
            : undefined;
  const remove = (label: string, change: (now: MatteMotion) => object) =>
    void edits.edit(label, (latest) => {
      const now = latest.motions.find((m) => m.id === motion.id);
      return now?.kind === "matte" ? setOnMotion(latest, motion.id, change(now)) : [];
    });
  return (
    <>
      {data && (
        <div
          data-testid="matte"
          data-says={data.says}
          data-frame={frame}
          className="pointer-events-none absolute top-0 left-0 origin-top-left opacity-55"
          style={{
            width: footage.width,
            height: footage.height,
            transform: screenMatrix(mapping),
            background: "var(--plum-glow)",
            maskImage: `url(${data.url})`,
            maskSize: "100% 100%",
          }}
        />
      )}
      <svg className="pointer-events-none absolute inset-0 size-full">
        {motion.boxes.map((b, k) => {
          if (b.frame !== frame) return null;
          const corners = [
            { x: b.x0, y: b.y0 },
            { x: b.x1, y: b.y0 },
            { x: b.x1, y: b.y1 },
            { x: b.x0, y: b.y1 },
          ].map((p) => toScreen(mapping, p));
          return (
            <polygon
              key={k}
              points={corners.map((p) => `${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(" ")}
              fill="none"
              stroke="var(--plum-glow)"
              strokeWidth="1.6"
              strokeDasharray="9 4"
            />
          );
        })}
        {motion.clicks.map((c, k) => {
          if (c.frame !== frame) return null;
          const p = toScreen(mapping, c);
          const label = `${c.subject ? "Click on it" : "Click on what it is not"}: take this click away`;
          const drop = () =>
            remove("Take a click away", (now) => ({
              clicks: now.clicks.filter((o) => !(o.frame === c.frame && o.x === c.x && o.y === c.y)),
            }));
          return (
            <g
              key={k}
              role="button"
              tabIndex={still ? 0 : -1}
              aria-label={label}
              className={still ? "pointer-events-auto cursor-pointer" : undefined}
              onClick={drop}
              onKeyDown={(e) => (e.key === "Delete" || e.key === "Enter") && drop()}
            >
              <title>{label}</title>
              <circle
                cx={p.x}
                cy={p.y}
                r="8"
                fill={c.subject ? "var(--plum)" : "var(--dark-on-picture)"}
                stroke="var(--on-picture)"
                strokeWidth="1.6"
              />
              <path
                d={`M${p.x - 4} ${p.y}h8${c.subject ? `M${p.x} ${p.y - 4}v8` : ""}`}
                stroke="var(--on-picture)"
                strokeWidth="1.8"
              />
            </g>
          );
        })}
      </svg>
      {says && (
        <p
          role="status"
          className={`absolute top-2 left-1/2 max-w-[80%] -translate-x-1/2 rounded-full px-2.5 py-0.5 text-xs ${error ? "bg-brick text-white" : "bg-black/60 text-white"}`}
        >
          {says}
        </p>
      )}
    </>
  );
}

/** Whether something has been going on for a while. */
function useLate(going: boolean): boolean {
  const [late, setLate] = useState(false);
  useEffect(() => {
    if (!going) return;
    const timer = setTimeout(() => setLate(true), 250);
    return () => {
      clearTimeout(timer);
      setLate(false);
    };
  }, [going]);
  return late;
}
