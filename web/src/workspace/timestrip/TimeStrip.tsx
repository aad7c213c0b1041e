import { useEffect, useRef, useState } from "react";
import { useShallow } from "zustand/react/shallow";
import type { Motion } from "~/workspace/timestrip/types";
import { useAssets } from "~/api/queries";
import { dragFrom } from "~/ui/drag";
import { useChosenLayer, useChosenMotion, useOpenShot } from "~/workspace/context";
import { useApart } from "~/workspace/apart";
import { Range } from "~/workspace/timestrip/Range";
import { useLayerSlip } from "~/workspace/slip";
import { act, useWorkspace } from "~/workspace/store";
import { Bar, BAR } from "~/workspace/timestrip/Bars";
import { solves } from "~/workspace/spaces";
import { CAMERA_CURVES, CameraCurves } from "~/workspace/timestrip/CameraCurves";
import { Curves, CURVES } from "~/workspace/timestrip/Curves";
import { keysOf } from "~/workspace/geometry";
import { KEY_CURVES, KeyCurves } from "~/workspace/timestrip/KeyCurves";
import { keyOfPath, type Moving } from "~/workspace/timestrip/keyed";
import { frameAt, type Scale, xOf } from "~/workspace/timestrip/scale";
import { useOwner } from "~/workspace/timestrip/useOwner";
import { FOLLOWED, FollowedLane, useFollowed } from "~/workspace/timestrip/FollowedLane";
import { SHAPES, ShapesLane, useShapes } from "~/workspace/timestrip/ShapesLane";
import { Filmstrip } from "~/workspace/timestrip/Filmstrip";
import { Markers, useAddMarker } from "~/workspace/timestrip/Markers";
import { lengthOf } from "~/workspace/time";
import { PIECES, SpeedLane } from "~/workspace/timestrip/SpeedLane";
import { PixelLane, SLIP, SlipLane } from "~/workspace/timestrip/SlipLane";
import { WAVE, WaveLane } from "~/workspace/timestrip/WaveLane";
import { TrustStrip } from "~/workspace/timestrip/TrustStrip";

const LABELS = 156;
/** Filmstrip, range, trust strips, key marks, playhead. */
export function TimeStrip() {
  const { record, filmed } = useOpenShot();
  const footage = record.document.footage;
  const lanes = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(800);
  const layer = useChosenLayer();
  const chosenMotion = useChosenMotion();
  const footageChosen = useWorkspace((s) => s.chosen.kind === "footage");
  const { curves, bars } = useWorkspace(useShallow((s) => ({ curves: s.curves, bars: s.bars })));
  const apart = useApart();
  const slip = useLayerSlip(layer?.id ?? "");
  const { owner, numbers } = useOwner();
  const { data: assets } = useAssets();
  const mark = useAddMarker();
  const followed = useFollowed();
  const shapes = useShapes();
  const overAll = useWorkspace((s) => s.overAll);
  const [hidden, setHidden] = useState<string[]>([]);
  useEffect(() => {
    const element = lanes.current;
    if (!element) return;
    const watcher = new ResizeObserver(() => setWidth(element.clientWidth));
    watcher.observe(element);
    return () => watcher.disconnect();
  }, [footage]);

  if (!footage)
    return (
      <div className="grid h-[120px] place-items-center border-t border-line bg-sheet text-ink-2">
        The film strip appears here once there is a clip.
      </div>
    );
  const scale = { width, frames: lengthOf(footage) };
  // Bars, markers and the range are the shot's: in the clip's own time they are not shown.
  const pieces = !filmed && (footage.time !== null || footageChosen);
  const stack = record.document.stack;
  // One that lies in a parcel has its bar too, while it is chosen.
  const barred = filmed
    ? []
    : bars
      ? [...(layer && !stack.includes(layer) ? [layer] : []), ...stack]
      : layer
        ? [layer]
        : [];
  const motions = record.document.motions;
  const heard = assets?.find((a) => a.digest === footage.asset)?.has_audio ?? false;
  const scrub = (e: React.PointerEvent<HTMLDivElement>) => {
    if (e.button !== 0) return;
    const box = e.currentTarget.getBoundingClientRect();
    const go = (x: number) => {
      act({ do: "play", on: false });
      act({ do: "flick", frame: null });
      act({ do: "frame", frame: frameAt(scale, x - box.left) });
    };
    go(e.clientX);
    act({ do: "scrub", on: true });
    dragFrom(
      e,
      (m) => go(m.clientX),
      () => act({ do: "scrub", on: false }),
    );
  };

  return (
    <section
      aria-label="Time strip"
      className="grid max-h-[340px] min-h-[152px] overflow-y-auto border-t border-line bg-sheet"
      style={{ gridTemplateColumns: `${LABELS}px 1fr` }}
    >
      <div className="border-r border-line text-[11.5px] text-ink-2">
        <Label tall={30}>
          <span className="num min-w-0 flex-1 truncate">
            {footage.in_frame}–{footage.out_frame}
          </span>
          <button
            aria-pressed={curves}
            disabled={!chosenMotion && !owner}
            title="Curves of the chosen thing's keys, or of the chosen motion's path (X)"
            className="rounded px-1 font-semibold text-tide aria-pressed:bg-tide-2 disabled:opacity-40"
            onClick={() => act({ do: "curves", on: !curves })}
          >
            Curves
          </button>
          <button
            aria-pressed={bars}
            disabled={!record.document.stack.length}
            title="Bars of all layers: when each begins and ends (T)"
            className="ml-1 rounded px-1 font-semibold text-tide aria-pressed:bg-tide-2 disabled:opacity-40"
            onClick={() => act({ do: "bars", on: !bars })}
          >
            Bars
          </button>
        </Label>
        <Label tall={38}>{filmed ? "Footage, as filmed" : "Footage"}</Label>
        {pieces && (
          <Label tall={PIECES}>
            <button
              className={`truncate ${footageChosen ? "font-bold text-ink" : ""}`}
              onClick={() => act({ do: "choose", chosen: { kind: "footage" } })}
            >
              Speed
            </button>
          </Label>
        )}
        {heard && (
          <Label tall={WAVE}>
            <button className="truncate" onClick={() => act({ do: "choose", chosen: { kind: "footage" } })}>
              Sound{record.document.sound.muted ? ", muted" : ""}
            </button>
          </Label>
        )}
        {motions.map((m) => (
          <Label key={m.id} tall={28}>
            <MotionLabel motion={m} />
          </Label>
        ))}
        {apart?.told && <Label tall={SLIP}>Apart from {apart.second.name}, px</Label>}
        {chosenMotion && curves && (
          <Label tall={solves(chosenMotion) ? CAMERA_CURVES : CURVES}>Path of {chosenMotion.name}</Label>
        )}
        {barred.map((one) => (
          <Label key={one.id} tall={BAR}>
            <button
              className={`truncate ${one.id === layer?.id ? "font-bold text-ink" : ""}`}
              onClick={() => act({ do: "choose", chosen: { kind: "layer", id: one.id } })}
            >
              {one.name}
            </button>
          </Label>
        ))}
        {followed && <Label tall={FOLLOWED}>{followed.name}, followed</Label>}
        {shapes && <Label tall={SHAPES}>{shapesNamed(shapes.outlines)}</Label>}
        {owner && (
          <Label tall={26}>
            <span className="min-w-0 flex-1 truncate">{owner.name} · keys</span>
            {numbers.length > 0 && (
              <button
                aria-pressed={overAll}
                title="Over all keys: what you change moves or scales the whole path"
                className="ml-1 rounded px-1 font-semibold text-saffron aria-pressed:bg-saffron-2"
                onClick={() => act({ do: "overAll", on: !overAll })}
              >
                All
              </button>
            )}
          </Label>
        )}
        {owner && curves && (
          <div className="overflow-y-auto border-b border-line px-2 py-1" style={{ height: KEY_CURVES }}>
            {numbers.map((n) => {
              const path = keyOfPath(n.path);
              const off = hidden.includes(path);
              return (
                <button
                  key={path}
                  aria-pressed={!off}
                  className={`block w-full truncate rounded px-1 text-left ${off ? "text-ink-3 line-through" : ""}`}
                  title={n.label}
                  onClick={() => setHidden(off ? hidden.filter((h) => h !== path) : [...hidden, path])}
                >
                  {n.label}
                </button>
              );
            })}
          </div>
        )}
        {layer && slip && <Label tall={SLIP}>Slip, px</Label>}
      </div>
      <div ref={lanes} data-testid="lanes" className="relative touch-none select-none" onPointerDown={scrub}>
        <div
          title="Double click for a marker here"
          onDoubleClick={(e) => {
            const box = e.currentTarget.getBoundingClientRect();
            if (!filmed) mark(frameAt(scale, e.clientX - box.left));
          }}
        >
          <Ruler scale={scale} />
        </div>
        {!filmed && <Markers scale={scale} />}
        <div className="h-[38px] border-b border-line">
          <Filmstrip asset={footage.asset} footage={footage} scale={scale} />
        </div>
        {pieces && <SpeedLane scale={scale} />}
        {heard && (
          <div className="border-b border-line" style={{ height: WAVE }}>
            <WaveLane scale={scale} />
          </div>
        )}
        {motions.map((m) => (
          <div key={m.id} className="h-[28px] border-b border-line">
            <TrustStrip motion={m} scale={scale} />
          </div>
        ))}
        {apart?.told && (
          <div className="border-b border-line">
            <PixelLane
              px={apart.told.px}
              top={Math.max(2, ...apart.told.px.slice(footage.in_frame, footage.out_frame + 1))}
              label={`Apart from ${apart.second.name}: ${apart.told.rms.toFixed(2)} pixels`}
              scale={scale}
            />
          </div>
        )}
        {chosenMotion &&
          curves &&
          (solves(chosenMotion) ? (
            <CameraCurves motion={chosenMotion} scale={scale} />
          ) : (
            <Curves motion={chosenMotion} scale={scale} />
          ))}
        {barred.map((one) => (
          <Bar key={one.id} layer={one} scale={scale} />
        ))}
        {followed && (
          <div className="border-b border-line" style={{ height: FOLLOWED }}>
            <FollowedLane mask={followed} scale={scale} />
          </div>
        )}
        {shapes && (
          <div className="border-b border-line" style={{ height: SHAPES }}>
            <ShapesLane key={shapes.outlines.map((m) => m.id).join()} {...shapes} scale={scale} />
          </div>
        )}
        {owner && <KeyMarks numbers={numbers} scale={scale} />}
        {owner && curves && <KeyCurves scale={scale} hidden={hidden} />}
        {layer && slip && <SlipLane slip={slip} scale={scale} />}
        {!filmed && <Range footage={footage} scale={scale} />}
        <Playhead scale={scale} />
      </div>
    </section>
  );
}

const shapesNamed = (outlines: { name: string }[]) =>
  outlines.length > 1 ? `${outlines.length} shapes, drawn` : `${outlines[0]!.name}, drawn`;

const Label = ({ tall, children }: { tall: number; children: React.ReactNode }) => (
  <div className="flex items-center truncate border-b border-line px-3" style={{ height: tall }}>
    {children}
  </div>
);

function MotionLabel({ motion }: { motion: Motion }) {
  const chosen = useWorkspace((s) => s.chosen);
  const on = chosen.kind === "motion" && chosen.id === motion.id;
  return (
    <button
      className={`truncate ${on ? "font-bold text-ink" : ""}`}
      onClick={() =>
        act({
          do: "choose",
          chosen: {
            kind: "motion",
            id: motion.id,
            point: motion.kind === "points" ? (motion.points[0]?.id ?? null) : null,
          },
        })
      }
    >
      {motion.name}
    </button>
  );
}

function Ruler({ scale }: { scale: Scale }) {
  const room = scale.width / scale.frames;
  const step = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000].find((s) => s * room > 56) ?? 5000;
  const marks = [];
  for (let f = 0; f < scale.frames; f += step) marks.push(f);
  return (
    <svg aria-hidden width={scale.width} height="30" className="block border-b border-line">
      {marks.map((f) => (
        <g key={f}>
          <path d={`M${xOf(scale, f)} 30v-8`} stroke="var(--ink-3)" strokeOpacity="0.6" />
          <text x={xOf(scale, f) + 4} y="18" fontSize="10.5" fontFamily="DM Mono" fill="var(--ink-2)">
            {f}
          </text>
        </g>
      ))}
    </svg>
  );
}

function KeyMarks({ numbers, scale }: { numbers: Moving[]; scale: Scale }) {
  const frames = new Set(numbers.flatMap((n) => keysOf(n.value).map((k) => k.frame)));
  const sorted = [...frames].sort((a, b) => a - b);
  return (
    <svg width={scale.width} height="26" className="block">
      {sorted.length > 1 && (
        <path
          d={`M${xOf(scale, sorted[0]!)} 13H${xOf(scale, sorted.at(-1)!)}`}
          stroke="var(--saffron-bar)"
          strokeDasharray="3 4"
        />
      )}
      {sorted.map((f) => (
        <rect
          key={f}
          x={xOf(scale, f) - 3.5}
          y="6"
          width="7"
          height="14"
          rx="2"
          fill="var(--saffron-bar)"
          className="cursor-pointer"
          onPointerDown={(e) => {
            e.stopPropagation();
            act({ do: "frame", frame: f });
          }}
        >
          <title>Key at frame {f}</title>
        </rect>
      ))}
      {!sorted.length && (
        <text x="22" y="17" fontSize="11" fill="var(--ink-3)">
          No keys: the diamond beside a number sets one.
        </text>
      )}
    </svg>
  );
}

function Playhead({ scale }: { scale: Scale }) {
  const frame = useWorkspace((s) => s.frame);
  return (
    <div
      aria-hidden
      className="pointer-events-none absolute inset-y-0 w-[2px] -translate-x-1/2 bg-ink"
      style={{ left: xOf(scale, frame) }}
    >
      <i className="absolute top-0 left-1/2 size-2.5 -translate-x-1/2 rounded-b-full bg-ink" />
    </div>
  );
}
