import { Eye, EyeOff } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { Fragment, type ReactNode } from "react";
import type { Layer, Motion, Perch } from "~/api/client";
import { post } from "~/api/client";
import { useLive } from "~/api/events";
import { useAssets } from "~/api/queries";
import { complain } from "~/ui/Notices";
import { pickText } from "~/workspace/actions";
import { useOpenShot } from "~/workspace/context";
import { setOnLayer } from "~/workspace/patches";
import { useLayerSlip } from "~/workspace/slip";
import { act, useWorkspace } from "~/workspace/store";
import { lostRuns, useHealth } from "~/workspace/tracks";
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
      <Section number={2} title="Motion">
        <FollowMenu disabled={!footage} />
      </Section>
      {shot.motions.map((motion) => (
        <Fragment key={motion.id}>
          <MotionCard motion={motion} on={chosen.kind === "motion" && chosen.id === motion.id} />
          <Perches perches={shot.perches} on={motion.id} />
        </Fragment>
      ))}
      <Perches perches={shot.perches} on={null} />
      {footage && !shot.motions.length && (
        <Hint>Follow a flat surface or a small, clear detail, so that things can stick to it.</Hint>
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
  children,
}: {
  number: number;
  title: string;
  note?: string;
  verb?: string;
  onVerb?: () => void;
  disabled?: boolean;
  children?: ReactNode;
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
      {children}
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

/** What kind of movement to follow. */
function FollowMenu({ disabled }: { disabled: boolean }) {
  const { shotId } = useOpenShot();
  const start = (tool: "add-point" | "outline") => {
    act({ do: "choose", chosen: { kind: "none" } });
    act({ do: "tool", tool });
  };
  const rows: { label: string; hint: string; run: () => void }[] = [
    { label: "A surface", hint: "outline it; things tilt with it", run: () => start("outline") },
    { label: "A detail", hint: "click on it; one or more points", run: () => start("add-point") },
    {
      label: "What would be good?",
      hint: "a look at the clip",
      run: () => act({ do: "open", what: "advice", on: true }),
    },
    {
      label: "From a file …",
      hint: "points, plane or corners",
      run: () =>
        pickText(".csv,.json", (name, text) => {
          post(`/shots/${shotId}/motions/import`, { name, text }).catch((e: Error) => complain(e.message));
        }),
    },
  ];
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        disabled={disabled}
        className="rounded px-1 font-semibold text-tide disabled:opacity-40"
      >
        Follow
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-50 w-64 rounded-lg border border-line bg-raise p-1 shadow-xl"
        >
          {rows.map((r) => (
            <DropdownMenu.Item
              key={r.label}
              className="cursor-pointer rounded-md px-2.5 py-1.5 outline-none data-[highlighted]:bg-tide-2"
              onSelect={r.run}
            >
              <b className="block font-semibold">{r.label}</b>
              <span className="text-xs text-ink-2">{r.hint}</span>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** The perches on a motion or perch, one step in, with those that sit on them. */
function Perches({ perches, on, depth = 1 }: { perches: Perch[]; on: string | null; depth?: number }) {
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
      {kind === "plane" ? (
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

function MotionCard({ motion, on }: { motion: Motion; on: boolean }) {
  const { record } = useOpenShot();
  const health = useHealth(motion);
  const footage = record.document.footage;
  const measuring = useLive((s) =>
    Object.values(s.jobs).some((j) => j.motion === motion.id && ["queued", "running"].includes(j.state)),
  );
  const lost = footage && motion.measurement ? lostRuns(health, footage.in_frame, footage.out_frame) : [];
  const runs = lost.map(([a, b]) => (a === b ? `${a}` : `${a}–${b}`));
  const first = motion.kind === "points" ? (motion.points[0]?.id ?? null) : null;
  const what =
    motion.kind === "plane"
      ? "Plane"
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

/** What a layer follows, by name. */
function useTargetName(layer: Layer): string | null {
  const { record } = useOpenShot();
  const shot = record.document;
  const id = layer.kind === "still" ? layer.follow.target : layer.kind === "pin" ? layer.plane : null;
  return shot.motions.find((m) => m.id === id)?.name ?? shot.perches.find((p) => p.id === id)?.name ?? null;
}

const KIND_NAMES = { still: "Still", pin: "Pinned", beam: "Beam" };

function LayerCard({ layer, on }: { layer: Layer; on: boolean }) {
  const { record, edits } = useOpenShot();
  const target = useTargetName(layer);
  const slip = useLayerSlip(layer.id);
  const Icon = layer.shown ? Eye : EyeOff;
  const picture = layer.kind === "beam" ? layer.bead : layer.asset;
  const loose = slip !== undefined && slip.worst.length > 0;
  return (
    <Card
      on={on}
      faded={!layer.shown}
      onChoose={() => act({ do: "choose", chosen: { kind: "layer", id: layer.id } })}
      picture={
        layer.kind === "beam" && !picture ? (
          <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
            <path
              d="M6 9q15 18 30 1"
              fill="none"
              stroke={layer.colour}
              strokeWidth="2.4"
              strokeLinecap="round"
            />
          </svg>
        ) : (
          <AssetPicture digest={picture ?? ""} />
        )
      }
      name={layer.name}
      line={
        <>
          {KIND_NAMES[layer.kind]} {target && <Chip>{target}</Chip>}
          {slip?.rms_px != null && (
            <span
              className={`num ${loose ? "font-semibold text-brick" : "text-ink-3"}`}
              title="Slip against the plate"
            >
              {slip.rms_px.toFixed(2)} px{loose ? "!" : ""}
            </span>
          )}
        </>
      }
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

function AssetPicture({ digest }: { digest: string }) {
  const { data: assets } = useAssets();
  const asset = assets?.find((a) => a.digest === digest);
  return (
    <img
      alt=""
      className="max-h-full max-w-full object-contain"
      src={
        asset?.kind === "clip"
          ? clipUrl(digest, 10, Math.floor(asset.frames / 2))
          : `/api/media/${digest}/original`
      }
    />
  );
}
