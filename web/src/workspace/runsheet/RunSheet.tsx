import { Eye, EyeOff } from "lucide-react";
import type { ReactNode } from "react";
import type { Layer, PointMotion } from "~/api/client";
import { useLive } from "~/api/events";
import { useOpenShot } from "~/workspace/context";
import { setOnLayer } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { lostRuns, useTracks } from "~/workspace/tracks";
import { clipUrl } from "~/workspace/viewer/frames";

/** The ordered list down the left: it is the shot. */
export function RunSheet() {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  const shot = record.document;
  const footage = shot.footage;
  return (
    <nav
      aria-label="Run sheet"
      className="h-full overflow-y-auto border-r border-line bg-paper py-2 pr-2.5 pl-3"
    >
      <Section number={1} title="Footage" />
      {footage ? (
        <Card
          on={chosen.kind === "footage"}
          onChoose={() => act({ do: "choose", chosen: { kind: "footage" } })}
          picture={
            <img
              alt=""
              className="size-full object-cover"
              src={clipUrl(footage.asset, 10, Math.floor((footage.in_frame + footage.out_frame) / 2))}
            />
          }
          name={footage.name}
          line={
            <span className="num">
              {Math.min(footage.width, footage.height)}p · {rateText(footage.rate)} ·{" "}
              {footage.out_frame - footage.in_frame + 1} fr
            </span>
          }
        />
      ) : (
        <Hint>Bring in a clip to begin: drop it on the dark well.</Hint>
      )}
      <Section
        number={2}
        title="Motion"
        verb="Follow"
        disabled={!footage}
        onVerb={() => {
          act({ do: "choose", chosen: { kind: "none" } });
          act({ do: "tool", tool: "add-point" });
        }}
      />
      {shot.motions.map((motion) => (
        <MotionCard
          key={motion.id}
          motion={motion}
          on={chosen.kind === "motion" && chosen.id === motion.id}
        />
      ))}
      {footage && !shot.motions.length && (
        <Hint>Follow a small, clear detail, so that things can stick to it.</Hint>
      )}
      <Section
        number={3}
        title="Stack"
        note="nearest first"
        verb="Plonk"
        disabled={!footage}
        onVerb={() => act({ do: "open", what: "shelf", on: true })}
      />
      {shot.stack.map((layer) => (
        <LayerCard key={layer.id} layer={layer} on={chosen.kind === "layer" && chosen.id === layer.id} />
      ))}
      {footage && !shot.stack.length && <Hint>Plonk an element from the shelf into the picture.</Hint>}
    </nav>
  );
}

const rateText = (rate: string) => {
  const [n = 25, d = 1] = rate.split("/").map(Number);
  return Number.isInteger(n / d) ? String(n / d) : (n / d).toFixed(2);
};

function Section({
  number,
  title,
  note,
  verb,
  onVerb,
  disabled,
}: {
  number: number;
  title: string;
  note?: string;
  verb?: string;
  onVerb?: () => void;
  disabled?: boolean;
}) {
  return (
    <h2 className="mt-2.5 mb-1.5 flex items-center gap-2 text-[12.5px] font-semibold">
      <i className="num grid size-[18px] place-items-center rounded-full bg-ink text-paper not-italic">
        {number}
      </i>
      {title}
      {note && <small className="font-normal text-ink-3">{note}</small>}
      <span className="flex-1 border-b border-dashed border-ink-3/50" />
      {verb && (
        <button
          className="rounded px-1 font-semibold text-tide disabled:opacity-40"
          disabled={disabled}
          onClick={onVerb}
        >
          {verb}
        </button>
      )}
    </h2>
  );
}

const Hint = ({ children }: { children: ReactNode }) => (
  <p className="mb-1 px-1 text-xs leading-snug text-ink-2">{children}</p>
);

function Card({
  on,
  onChoose,
  picture,
  name,
  line,
  side,
  faded,
}: {
  on: boolean;
  onChoose: () => void;
  picture: ReactNode;
  name: string;
  line: ReactNode;
  side?: ReactNode;
  faded?: boolean;
}) {
  return (
    <div
      className={`mb-1 flex items-center gap-2 rounded-lg border py-[5px] pr-2 pl-[5px] ${on ? "border-tide bg-raise shadow-[inset_3px_0_0_var(--tide)]" : "border-line bg-sheet hover:border-ink-3"} ${faded ? "opacity-60" : ""}`}
    >
      <button
        className="flex min-w-0 flex-1 items-center gap-2 text-left"
        aria-pressed={on}
        onClick={onChoose}
      >
        <span className="grid h-7 w-[42px] shrink-0 place-items-center overflow-hidden rounded-[5px] bg-well-2">
          {picture}
        </span>
        <span className="min-w-0">
          <b className="block truncate text-[12.5px] leading-tight font-semibold">{name}</b>
          <small className="flex items-center gap-1.5 text-[11px] whitespace-nowrap text-ink-2">{line}</small>
        </span>
      </button>
      {side}
    </div>
  );
}

function Chip({ children, bad }: { children: ReactNode; bad?: boolean }) {
  return (
    <span
      className={`max-w-[112px] truncate rounded-full px-1.5 text-[10.5px] font-semibold ${bad ? "bg-brick-2 text-brick" : "bg-tide-2 text-tide"}`}
    >
      {children}
    </span>
  );
}

function MotionCard({ motion, on }: { motion: PointMotion; on: boolean }) {
  const { record } = useOpenShot();
  const tracks = useTracks(motion);
  const footage = record.document.footage;
  const measuring = useLive((s) =>
    Object.values(s.jobs).some((j) => j.motion === motion.id && ["queued", "running"].includes(j.state)),
  );
  const lost =
    footage && motion.measurement ? lostRuns(tracks, motion, footage.in_frame, footage.out_frame) : [];
  const runs = lost.map(([a, b]) => (a === b ? `${a}` : `${a}–${b}`));
  return (
    <Card
      on={on}
      onChoose={() =>
        act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: motion.points[0]?.id ?? null } })
      }
      picture={
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <rect width="42" height="28" fill="var(--tide-2)" />
          <circle cx="17" cy="15" r="5" fill="none" stroke="var(--tide)" strokeWidth="1.8" />
          <path
            d="M22 14q6-8 14-5"
            fill="none"
            stroke="var(--tide)"
            strokeWidth="1.2"
            strokeDasharray="2 1.6"
          />
        </svg>
      }
      name={motion.name}
      line={
        <>
          {motion.points.length === 1 ? "1 point" : `${motion.points.length} points`}
          {measuring ? (
            <Chip>measuring</Chip>
          ) : !motion.measurement ? (
            <Chip bad>not measured</Chip>
          ) : runs.length ? (
            <Chip bad>
              lost {runs.slice(0, 2).join(", ")}
              {runs.length > 2 ? " …" : ""}
            </Chip>
          ) : (
            <Chip>holds</Chip>
          )}
        </>
      }
    />
  );
}

function LayerCard({ layer, on }: { layer: Layer; on: boolean }) {
  const { record, edits } = useOpenShot();
  const motion = record.document.motions.find((m) => m.id === layer.follow.motion);
  const Icon = layer.shown ? Eye : EyeOff;
  return (
    <Card
      on={on}
      faded={!layer.shown}
      onChoose={() => act({ do: "choose", chosen: { kind: "layer", id: layer.id } })}
      picture={
        <img
          alt=""
          className="max-h-full max-w-full object-contain"
          src={`/api/media/${layer.asset}/original`}
        />
      }
      name={layer.name}
      line={<>Still {motion && <Chip>{motion.name}</Chip>}</>}
      side={
        <button
          className="shrink-0 rounded p-0.5 text-ink-2 hover:text-ink"
          aria-label={layer.shown ? `Hide ${layer.name}` : `Show ${layer.name}`}
          onClick={() =>
            void edits.edit(
              layer.shown ? `Hide ${layer.name}` : `Show ${layer.name}`,
              setOnLayer(record.document, layer.id, { shown: !layer.shown }),
            )
          }
        >
          <Icon className="size-4" />
        </button>
      }
    />
  );
}
