import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { type FormFit, type FormMotion, type Pose, type Tug, answered, api } from "~/api/client";
import { type PartialTracks, useLive } from "~/api/events";
import { fitOf, useTug } from "~/workspace/actions/forms";
import { formSeen, type V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { IDENTITY, type Point } from "~/workspace/geometry";
import { round } from "~/workspace/patches";
import { useCameras } from "~/workspace/spaces";
import { useWorkspace } from "~/workspace/store";
import { LOST, REASONS, useHealth } from "~/workspace/tracks";
import { HeldLoupe } from "~/workspace/viewer/Loupe";
import { PictureText } from "~/workspace/viewer/PictureText";
import { RegionHandles } from "~/workspace/viewer/RegionHandles";
import { GripMark, Handle } from "~/workspace/viewer/Handle";
import { type Hold, useGrab } from "~/workspace/viewer/useGrab";
import { type Mapping, toScreen } from "~/workspace/viewer/viewport";

/** Corners that may be tugged, on the form of unit size. */
function cornersOf(shape: FormMotion["shape"]): V3[] {
  if (shape === "cylinder")
    return [0, 1].flatMap((y) =>
      [0, 1, 2, 3, 4, 5].map((k): V3 => {
        const a = (k * Math.PI) / 3;
        return [0.5 * Math.cos(a), y, 0.5 * Math.sin(a)];
      }),
    );
  const levels = shape === "plane" ? [0] : [0, 1];
  return levels.flatMap((y) => [-0.5, 0.5].flatMap((z) => [-0.5, 0.5].map((x): V3 => [x, y, z])));
}

const same = (a: readonly number[], b: readonly number[]) => a.every((v, k) => Math.abs(v - b[k]!) < 1e-3);

/** A form on the picture: its edges, its tugs, and corners that become tugs when they are dragged. */
export function FormHandles({
  motion,
  mapping,
  still,
}: {
  motion: FormMotion;
  mapping: Mapping;
  still: boolean;
}) {
  const { record, shotId } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const footage = record.document.footage!;
  const camera = useCameras().get(motion.id);
  const health = useHealth(motion);
  const live = livePose(
    useLive((s) => s.partial[motion.id]),
    frame,
  );
  const hand = useGrab(mapping);
  const tug = useTug();
  const [preview, setPreview] = useState<{ tugs: Tug[]; fit: FormFit | null } | null>(null);
  const asked = useRef<{ busy: boolean; next: Tug[] | null }>({ busy: false, next: null });
  const { data } = useQuery({
    queryKey: ["outline", motion.shape, motion.asset],
    queryFn: () =>
      answered(
        api.GET("/api/forms/outline", { params: { query: { shape: motion.shape, asset: motion.asset } } }),
      ),
    staleTime: Infinity,
  });
  const trust = health.at(frame);
  const lost = trust?.state === LOST;
  const stake = motion.stakes.find((s) => s.frame === frame);
  const nearest = [...motion.stakes].sort((a, b) => Math.abs(a.frame - frame) - Math.abs(b.frame - frame))[0];
  const pose = preview?.fit?.pose ?? stake?.pose ?? live ?? (camera ? null : nearest?.pose);
  const size: V3 = preview?.fit
    ? [preview.fit.wide, preview.fit.tall, preview.fit.deep]
    : [motion.wide, motion.tall, motion.deep];
  const focal =
    preview?.fit?.focal_px ?? camera?.focal(frame) ?? lensOf(motion, Math.max(footage.width, footage.height));
  const middle = { w: footage.width, h: footage.height };
  const at = (p: V3): Point | null => {
    const metres: V3 = [p[0] * size[0], p[1] * size[1], p[2] * size[2]];
    if (pose) return formSeen(pose, focal, middle, metres);
    return camera?.project(frame, metres) ?? null;
  };
  const screen = (p: V3) => {
    const q = at(p);
    return q && toScreen(mapping, q);
  };
  const tugs = preview?.tugs ?? stake?.tugs ?? [];

  const ask = (wanted: Tug[]) => {
    // One question at a time, always the latest.
    if (asked.current.busy) {
      asked.current.next = wanted;
      return;
    }
    asked.current.busy = true;
    void fitOf(shotId, motion.id, frame, wanted)
      .then((fit) => setPreview((now) => (now ? { ...now, fit } : now)))
      .catch(() => undefined)
      .finally(() => {
        asked.current.busy = false;
        const next = asked.current.next;
        asked.current.next = null;
        if (next) ask(next);
      });
  };
  const moved = (place: V3, to: Point): Tug[] => [
    ...(stake?.tugs ?? []).filter((t) => !same(t.at, place)),
    { at: [place[0], place[1], place[2]], x: round(to.x), y: round(to.y) },
  ];
  const put = (wanted: Tug[]) => tug(motion.id, frame, wanted).finally(() => setPreview(null));
  const hold = (place: V3, from: Point): Hold => ({
    from,
    move: (p) => {
      const wanted = moved(place, p);
      setPreview((now) => ({ tugs: wanted, fit: now?.fit ?? null }));
      ask(wanted);
    },
    end: (p) => {
      asked.current.next = null;
      return p ? put(moved(place, p)) : setPreview(null);
    },
  });

  const turnsAway = facing(at, data?.edges ?? []);
  const line = (e: number[]) => {
    const [p, q] = [screen([e[0]!, e[1]!, e[2]!]), screen([e[3]!, e[4]!, e[5]!])];
    return p && q ? `M${p.x.toFixed(1)} ${p.y.toFixed(1)}L${q.x.toFixed(1)} ${q.y.toFixed(1)}` : "";
  };
  const front = (data?.edges ?? [])
    .filter((_, k) => !turnsAway[k])
    .map(line)
    .join("");
  const back = (data?.edges ?? [])
    .filter((_, k) => turnsAway[k])
    .map(line)
    .join("");
  const colour = lost ? "var(--brick-glow)" : "var(--glow)";
  const corners = cornersOf(motion.shape);
  const grips: { place: V3; tug: Tug | null }[] = [
    ...corners.map((place) => ({ place, tug: tugs.find((t) => same(t.at, place)) ?? null })),
    ...tugs.filter((t) => !corners.some((c) => same(t.at, c))).map((t) => ({ place: t.at as V3, tug: t })),
  ];
  const title = screen([0, motion.shape === "plane" ? 0 : 1, 0]);
  return (
    <>
      <svg
        ref={hand.svg}
        className="pointer-events-none absolute inset-0 size-full"
        data-testid="form-handles"
      >
        <RegionHandles motion={motion} moved={IDENTITY} mapping={mapping} still={still} hand={hand} />
        <path
          d={back}
          fill="none"
          stroke={colour}
          strokeOpacity="0.45"
          strokeWidth="1"
          strokeDasharray="3 4"
        />
        <path d={front} fill="none" stroke="var(--under-picture)" strokeOpacity="0.5" strokeWidth="3.6" />
        <path
          d={front}
          fill="none"
          stroke={colour}
          strokeWidth="1.6"
          strokeDasharray={lost ? "7 5" : undefined}
          data-form={motion.id}
        />
        {grips.map(({ place, tug: mine }, k) => {
          // One element all along, or a corner that becomes a tug while it is dragged would lose the pointer.
          const p = mine ?? at(place);
          if (!p || (!mine && !still)) return null;
          const s = toScreen(mapping, p);
          const rests = mine && screen(place);
          return (
            <g key={place.join()}>
              {rests && Math.hypot(rests.x - s.x, rests.y - s.y) > 2 && (
                <line
                  x1={rests.x}
                  y1={rests.y}
                  x2={s.x}
                  y2={s.y}
                  stroke="var(--saffron-bar)"
                  strokeWidth="1.5"
                />
              )}
              <Handle
                at={s}
                label={
                  mine ? `Tug ${k + 1}; Delete takes it away` : `Corner ${k + 1}: drag it to where it is seen`
                }
                hand={hand}
                hold={() => (still ? hold(place, p) : null)}
                onRemove={() => void put((stake?.tugs ?? []).filter((t) => !same(t.at, place)))}
                data-tug={mine ? place.join() : undefined}
                data-corner-at={mine ? undefined : place.join()}
                data-x={p.x.toFixed(2)}
                data-y={p.y.toFixed(2)}
              >
                <GripMark
                  at={s}
                  r={mine ? 8 : 5.5}
                  shape={mine ? "diamond" : "square"}
                  fill={mine ? "var(--saffron-bar)" : undefined}
                  edge={mine ? "var(--dark-on-picture)" : undefined}
                />
              </Handle>
            </g>
          );
        })}
        {title && (
          <PictureText x={title.x} y={title.y - 16}>
            {motion.name}
            {lost ? ` · lost: ${REASONS[trust.reason] ?? ""}` : ""}
          </PictureText>
        )}
      </svg>
      <HeldLoupe hand={hand} mapping={mapping} />
    </>
  );
}

/** Where the form was found in a frame while it is measured. */
function livePose(live: PartialTracks | undefined, frame: number): Pose | null {
  const row = live?.kind === "form" ? live.rows.get(`${frame}`) : undefined;
  if (!row || row[2] === LOST) return null;
  const [x, y, z, a, b, c, d] = row.slice(4) as [number, number, number, number, number, number, number];
  return { place: [x, y, z], turn: [a, b, c, d] };
}

/** The focal length in pixels that a form is drawn with before it is measured, as the core's `focal_of`. */
function lensOf(motion: FormMotion, longest: number): number {
  if (motion.knows === "equivalent") return (motion.equivalent_mm / 36) * longest;
  if (motion.knows === "sensor") return (motion.focal_mm / motion.sensor_mm) * longest;
  return motion.focal_px;
}

/** Which edges lie on the far side: both faces they join turn away. Faces are told by how their outline runs on screen. */
function facing(at: (p: V3) => Point | null, edges: number[][]): boolean[] {
  return edges.map((e) => {
    if (e.length < 12) return false;
    const middle: V3 = [(e[0]! + e[3]!) / 2, (e[1]! + e[4]!) / 2, (e[2]! + e[5]!) / 2];
    return [e.slice(6, 9), e.slice(9, 12)].every((n) => away(at, middle, n as unknown as V3));
  });
}

/** Whether a face through a place turns away: two ways along it that run anticlockwise round its normal run clockwise on screen. */
function away(at: (p: V3) => Point | null, place: V3, normal: V3): boolean {
  const helper: V3 = Math.abs(normal[1]) < 0.9 ? [0, 1, 0] : [1, 0, 0];
  const cross = (a: V3, b: V3): V3 => [
    a[1] * b[2] - a[2] * b[1],
    a[2] * b[0] - a[0] * b[2],
    a[0] * b[1] - a[1] * b[0],
  ];
  const u = cross(helper, normal);
  const v = cross(normal, u);
  const step = 0.02;
  const [o, p, q] = [
    at(place),
    at([place[0] + u[0] * step, place[1] + u[1] * step, place[2] + u[2] * step]),
    at([place[0] + v[0] * step, place[1] + v[1] * step, place[2] + v[2] * step]),
  ];
  if (!o || !p || !q) return false;
  // The picture's y runs down: what is seen from the front turns the other way.
  return (p.x - o.x) * (q.y - o.y) - (p.y - o.y) * (q.x - o.x) > 0;
}
