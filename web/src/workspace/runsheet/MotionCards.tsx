import type { Motion, Perch } from "~/api/client";
import { useLive } from "~/api/events";
import { useMeasurement } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { Card, Chip } from "~/workspace/runsheet/Card";
import { has, kindOf } from "~/workspace/kinds";
import { solves } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { clipRange } from "~/workspace/time";
import { badRuns, useHealth } from "~/workspace/tracks";

/** The perches on a motion or perch, one step in, with those that sit on them. */
export function Perches({ perches, on, depth = 1 }: { perches: Perch[]; on: string | null; depth?: number }) {
  const chosen = useWorkspace((s) => s.chosen);
  return perches
    .filter((p) => p.follow.target === on)
    .map((p) => (
      <div key={p.id} style={{ marginLeft: on ? Math.min(depth, 4) * 12 : 0 }}>
        <Card
          on={chosen.kind === "perch" && chosen.id === p.id}
          onChoose={() => act({ do: "choose", chosen: { kind: "perch", id: p.id } })}
          picture={
            <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
              <rect width="42" height="28" fill="var(--tide-2)" />
              <path d="M9 12h24M21 12v9" stroke="var(--tide)" strokeWidth="2.4" strokeLinecap="round" />
            </svg>
          }
          name={p.name}
          line={on ? "Perch" : "Perch, stays put"}
        />
        <Perches perches={perches} on={p.id} depth={depth + 1} />
      </div>
    ));
}

function MotionPicture({ kind }: { kind: Motion["kind"] }) {
  return (
    <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
      <rect width="42" height="28" fill="var(--tide-2)" />
      {kind === "camera" ? (
        <g fill="none" stroke="var(--tide)" strokeWidth="1.6" strokeLinejoin="round">
          <path d="M6 21l9-4 20 5M15 17V6" />
          <circle cx="24" cy="13" r="1.6" fill="var(--tide)" />
          <circle cx="31" cy="9" r="1.6" fill="var(--tide)" />
          <circle cx="20" cy="8" r="1.6" fill="var(--tide)" />
        </g>
      ) : kind === "form" ? (
        <path
          d="M8 10l13-5 13 5v9l-13 5-13-5zM8 10l13 5 13-5M21 15v9"
          fill="none"
          stroke="var(--tide)"
          strokeWidth="1.6"
          strokeLinejoin="round"
        />
      ) : kind === "object" ? (
        <g fill="var(--tide)">
          <path
            d="M11 19l5-11 12-2 5 10-8 6z"
            fill="none"
            stroke="var(--tide)"
            strokeWidth="1.2"
            strokeDasharray="2 1.6"
          />
          {[
            [11, 19],
            [16, 8],
            [28, 6],
            [33, 16],
            [25, 22],
            [21, 14],
          ].map(([x, y]) => (
            <circle key={x} cx={x} cy={y} r="1.8" />
          ))}
        </g>
      ) : kind === "matte" ? (
        <path
          d="M21 5a4.5 4.5 0 0 1 3 7.8q7 2.2 7 10.2H11q0-8 7-10.2A4.5 4.5 0 0 1 21 5z"
          fill="var(--plum-2)"
          stroke="var(--plum)"
          strokeWidth="1.6"
        />
      ) : kind === "depth" ? (
        <g fill="none" strokeWidth="1.8" strokeLinejoin="round">
          <path d="M19 5h16v11H19z" stroke="var(--tide)" opacity=".45" />
          <path d="M13 8h16v11H13z" stroke="var(--tide)" opacity=".7" fill="var(--tide-2)" />
          <path d="M7 11h16v11H7z" stroke="var(--tide)" fill="var(--tide-2)" />
        </g>
      ) : kind === "plane" ? (
        <path
          d="M9 7l22-2 3 17-26-1z"
          fill="none"
          stroke="var(--tide)"
          strokeWidth="1.8"
          strokeLinejoin="round"
        />
      ) : (
        <>
          <circle cx="17" cy="15" r="5" fill="none" stroke="var(--tide)" strokeWidth="1.8" />
          <path
            d="M22 14q6-8 14-5"
            fill="none"
            stroke="var(--tide)"
            strokeWidth="1.2"
            strokeDasharray="2 1.6"
          />
        </>
      )}
    </svg>
  );
}

const SHAPES = { box: "box", cylinder: "cylinder", plane: "plane", model: "model" };

export function MotionCard({ motion, on }: { motion: Motion; on: boolean }) {
  const { record } = useOpenShot();
  const health = useHealth(motion);
  const footage = record.document.footage;
  const measuring = useLive((s) =>
    Object.values(s.jobs).some((j) => j.motion === motion.id && ["queued", "running"].includes(j.state)),
  );
  const bad = footage && motion.measurement ? badRuns(motion, health, ...clipRange(footage)) : [];
  const runs = bad.map(([a, b]) => (a === b ? `${a}` : `${a}–${b}`));
  const first = motion.kind === "points" ? (motion.points[0]?.id ?? null) : null;
  const solve = useMeasurement(solves(motion) ? motion.measurement : null).data?.camera;
  const what =
    motion.kind === "camera"
      ? solve
        ? solve.locked
          ? "Camera, stands still"
          : solve.kind === "full"
            ? `Camera · ${solve.mean_error_px.toFixed(2)} px`
            : "Camera, only turns"
        : "Camera"
      : motion.kind === "object"
        ? solve
          ? `Object · ${solve.mean_error_px.toFixed(2)} px`
          : "Object"
        : motion.kind === "form"
          ? `Form, ${SHAPES[motion.shape]}`
          : motion.kind === "plane"
            ? "Plane"
            : motion.kind !== "points"
              ? kindOf("motion", (motion as Motion).kind)?.label
              : motion.points.length === 1
                ? "1 point"
                : `${motion.points.length} points`;
  return (
    <Card
      on={on}
      onChoose={() => act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: first } })}
      picture={<MotionPicture kind={motion.kind} />}
      name={motion.name}
      line={
        <>
          {what}
          {measuring ? (
            <Chip>measuring</Chip>
          ) : !motion.measurement ? (
            <Chip bad>not measured</Chip>
          ) : runs.length ? (
            <Chip bad>
              {has("motion", motion, "matte") ? "unsure" : "lost"} {runs.slice(0, 2).join(", ")}
              {runs.length > 2 ? " …" : ""}
            </Chip>
          ) : health.measured ? (
            <Chip>holds</Chip>
          ) : null}
        </>
      }
    />
  );
}
