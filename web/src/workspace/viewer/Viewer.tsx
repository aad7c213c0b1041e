import type { Shot } from "~/api/client";
import { useShallow } from "zustand/react/shallow";
import { useLightAhead } from "~/workspace/actions/light";
import { has } from "~/workspace/kinds";
import { MotionHandles } from "~/workspace/viewer/MotionHandles";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { dragFrom } from "~/ui/drag";
import {
  useChosenFrame,
  useChosenLayer,
  useChosenMotion,
  useChosenPerch,
  useChosenTreatment,
  useOpenShot,
} from "~/workspace/context";
import { apply, times } from "~/workspace/geometry";
import { allLayers, findLayer } from "~/workspace/patches";
import { useParcelMatrix, useView, useWorked } from "~/workspace/spaces";
import { type Compare, type Shown, act, heldOf, useWorkspace, viewOf } from "~/workspace/store";
import { clipFrame, lengthOf } from "~/workspace/time";
import { AdviceMarks } from "~/workspace/viewer/AdvicePanel";
import { ApartSpot } from "~/workspace/viewer/ApartSpot";
import { otherName, VIEW_NAMES } from "~/workspace/viewer/ComparePanel";
import { EmptyWell } from "~/workspace/viewer/EmptyWell";
import { FrameHandles } from "~/workspace/viewer/FrameHandles";
import { LayerHandles } from "~/workspace/viewer/LayerHandles";
import { Loupe } from "~/workspace/viewer/Loupe";
import { MeasuringPill } from "~/workspace/viewer/MeasuringPill";
import { MaskHandles } from "~/workspace/viewer/MaskHandles";
import { PerchHandles } from "~/workspace/viewer/PerchHandles";
import { PlateMarks } from "~/workspace/viewer/PlateMarks";
import { SurfaceGrid } from "~/workspace/viewer/RoomMarks";
import { ToolOverlay } from "~/workspace/viewer/ToolOverlay";
import { Transport } from "~/workspace/viewer/Transport";
import { ViewerBar } from "~/workspace/viewer/ViewerBar";
import type { FrameAddress } from "~/workspace/viewer/frames";
import { Picture } from "~/workspace/viewer/Picture";
import { Scopes } from "~/workspace/viewer/Scopes";
import { useClickTool } from "~/workspace/actions/plonk";
import { LookSpots } from "~/workspace/viewer/SpotGrips";
import { usePlayback } from "~/workspace/viewer/usePlayback";
import { type Mapping, mappingOf, toPicture, toScreen, zoomed } from "~/workspace/viewer/viewport";

export function Viewer() {
  useLightAhead();
  const { record, shotId, filmed: ownTime } = useOpenShot();
  const footage = record.document.footage;
  const well = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState({ w: 100, h: 100 });
  const {
    frame,
    compare,
    viewport,
    tool,
    playing,
    shown,
    onion,
    onionShare,
    loupe,
    adviceOpen,
    scopesOpen,
    before,
  } = useWorkspace(
    useShallow((w) => ({
      frame: w.frame,
      compare: w.compare,
      viewport: w.viewport,
      tool: w.tool,
      playing: w.playing,
      shown: w.shown,
      onion: w.onion,
      onionShare: w.onionShare,
      loupe: w.loupe,
      adviceOpen: w.adviceOpen,
      scopesOpen: w.scopesOpen,
      before: w.before,
    })),
  );
  const motion = useChosenMotion();
  const layer = useChosenLayer();
  const perch = useChosenPerch();
  const click = useClickTool();

  useEffect(() => {
    const element = well.current;
    if (!element) return;
    const watcher = new ResizeObserver(() => setSize({ w: element.clientWidth, h: element.clientHeight }));
    watcher.observe(element);
    return () => watcher.disconnect();
  }, [footage]);

  const picture = useMemo(() => ({ w: footage?.width ?? 16, h: footage?.height ?? 9 }), [footage]);
  // Beside what it is compared with, the picture has the right half of the well.
  const aside = compare?.how === "beside" ? size.w / 2 : 0;
  const room = useMemo(() => ({ w: size.w - aside, h: size.h }), [size, aside]);
  const fitted = mappingOf(viewport, room, picture);
  const mapping = { ...fitted, x: fitted.x + aside };
  // Half size is enough while it fills the screen's pixels or moves; looking closer brings the full one.
  // Models are filmed path by path: their full size is for looking closely and for delivering.
  const filmed = allLayers(record.document).some((l) => has("layer", l, "filmed") && l.shown);
  const percent = !playing && mapping.zoom * devicePixelRatio > (filmed ? 1.01 : 0.505) ? 100 : 50;
  const view = viewOf(shown);
  const held = heldOf(shown);
  const worked = useWorked();
  // The matte of what is chosen; of the whole stack where nothing that covers is.
  const matteOf = view === "matte" && layer && !has("layer", layer, "wash") ? layer : null;
  const shownView =
    special(shown, record.document) ?? (worked ? "worked" : matteOf ? `matte-${matteOf.id}` : view);
  const clipAt = useCallback((f: number) => clipFrame(footage, f), [footage]);
  const address = useMemo<FrameAddress | null>(
    () =>
      footage
        ? {
            shot: shotId,
            picture: before?.on ? before.picture : record.picture,
            view: shownView,
            percent,
            filmed: ownTime,
          }
        : null,
    [footage, shotId, record.picture, before, shownView, percent, ownTime],
  );
  // While the surface is held still, things are not where their handles would be.
  const handles = held === null && !adviceOpen;
  // With another tool in hand, a click on a grip is meant for the picture under it.
  const taken = !playing && tool.kind === "handle";
  const perches = record.document.perches.filter(
    (p) =>
      p === perch || (motion && p.follow.target === motion.id) || (perch && p.follow.target === perch.id),
  );
  const rate = usePlayback(record, address);
  const treatment = useChosenTreatment();
  const part = useChosenFrame();
  const seen = useView();
  const lies = seen && held === null ? seen(frame) : undefined;
  // Things lie where the steadied clip carries them; the picture itself does not.
  const things: Mapping = lies ? { ...mapping, view: lies } : mapping;

  // What lies in a parcel is drawn where the first layer that shows it carries it.
  const inside = useParcelMatrix(layer?.id ?? null);
  const packed: Mapping = inside ? { ...things, view: lies ? times(lies, inside) : inside } : things;

  const onWheel = useCallback(
    (e: WheelEvent) => {
      e.preventDefault();
      const box = well.current!.getBoundingClientRect();
      const x = e.clientX - box.left;
      // Over the other picture the same spot is meant.
      const about = { x: aside && x > aside ? x - aside : x, y: e.clientY - box.top };
      const now = mappingOf(useWorkspace.getState().viewport, room, picture);
      act({ do: "viewport", viewport: zoomed(now, about, Math.exp(-e.deltaY * 0.0016)) });
    },
    [room, aside, picture],
  );
  useEffect(() => {
    const element = well.current;
    element?.addEventListener("wheel", onWheel, { passive: false });
    return () => element?.removeEventListener("wheel", onWheel);
  }, [onWheel]);

  return (
    <section
      aria-label="Viewer"
      className="on-well grid min-h-0 min-w-0 select-none grid-cols-[minmax(0,1fr)] grid-rows-[40px_minmax(0,1fr)_46px] bg-well"
    >
      <ViewerBar />
      <div
        ref={well}
        data-testid="well"
        className="relative min-h-0 overflow-hidden"
        style={{ cursor: tool.kind === "handle" ? undefined : "crosshair" }}
        onPointerDown={(e) => {
          if (!footage || e.target !== e.currentTarget.querySelector("[data-ground]")) return;
          const box = e.currentTarget.getBoundingClientRect();
          const local = { x: e.clientX - box.left, y: e.clientY - box.top };
          const at = toPicture(mapping, local);
          const inside = at.x >= 0 && at.y >= 0 && at.x <= picture.w && at.y <= picture.h;
          if (e.button === 0 && tool.kind !== "handle" && inside) {
            click(toPicture(things, local), at);
            return;
          }
          if (loupe) act({ do: "loupe", at: null });
          panFrom(e, fitted);
        }}
      >
        {footage && address ? (
          <>
            <Picture
              address={address}
              halfFirst={!filmed}
              asset={footage.asset}
              frame={frame}
              frames={lengthOf(footage)}
              clipAt={clipAt}
              mapping={mapping}
              picture={picture}
              size={size}
              compare={compare}
              onion={onion}
              onionShare={onionShare}
              playing={playing}
            />
            <div data-ground className="absolute inset-0" />
            {handles && motion && view !== "matte" && (
              <MotionHandles motion={motion} mapping={things} still={taken} />
            )}
            {handles && layer && taken && <LayerHandles layer={layer} mapping={packed} />}
            {handles && taken && <LookSpots mapping={packed} />}
            {handles && perch?.spot && !playing && <SurfaceGrid perch={perch} mapping={things} />}
            {handles && perches.length > 0 && taken && <PerchHandles perches={perches} mapping={things} />}
            {!playing && <ToolOverlay mapping={things} inParcel={packed} />}
            {adviceOpen && !playing && <AdviceMarks mapping={things} />}
            {handles && view !== "matte" && <MaskHandles mapping={things} still={taken} />}
            {handles && part && view !== "matte" && (
              <FrameHandles part={part} mapping={mapping} picture={picture} still={!playing} />
            )}
            {handles && treatment && <PlateMarks treatment={treatment} mapping={mapping} picture={picture} />}
            {handles && !playing && motion && <ApartSpot mapping={things} />}
            {loupe && !playing && (
              <Loupe
                asset={footage.asset}
                frame={frame}
                at={lies ? apply(lies, loupe) : loupe}
                screen={toScreen(things, loupe)}
                bounds={size}
                address={address}
              />
            )}
            {compare?.how === "wipe" && <WipeBar compare={compare} mapping={mapping} picture={picture} />}
            {compare && <Compared compare={compare} aside={aside} />}
            {before?.on && (
              <p className="absolute top-2 left-1/2 -translate-x-1/2 rounded-full bg-black/60 px-2.5 py-0.5 text-xs text-white">
                Before the last match
              </p>
            )}
            {scopesOpen && (
              <Scopes address={address} frame={frame} mapping={mapping} size={size} picture={picture} />
            )}
            <MeasuringPill />
          </>
        ) : (
          <EmptyWell />
        )}
      </div>
      <Transport rate={rate} percent={percent} />
    </section>
  );
}

function panFrom(e: React.PointerEvent<HTMLDivElement>, mapping: Mapping) {
  const start = { x: e.clientX, y: e.clientY };
  dragFrom(e, (m) =>
    act({
      do: "viewport",
      viewport: {
        zoom: mapping.zoom,
        x: mapping.x + m.clientX - start.x,
        y: mapping.y + m.clientY - start.y,
      },
    }),
  );
}

/** Which of two pictures is which. */
function Compared({ compare, aside }: { compare: Compare; aside: number }) {
  const { record } = useOpenShot();
  const view = useWorkspace((s) => viewOf(s.shown));
  const names = [otherName(compare.other, record.document.motions), VIEW_NAMES[view]];
  const look =
    "absolute bottom-2 max-w-[46%] truncate rounded-full bg-black/60 px-2.5 py-0.5 text-xs text-white";
  if (compare.how === "difference")
    return (
      <p className={`${look} left-1/2 -translate-x-1/2`}>
        {names[1]} less {names[0]}, <span className="num">{compare.gain}</span> times
      </p>
    );
  return (
    <>
      <p className={`${look} left-3`}>{names[0]}</p>
      <p className={look} style={aside ? { left: aside + 12 } : { right: 12 }}>
        {names[1]}
      </p>
    </>
  );
}

function WipeBar({
  compare: { at, other },
  mapping,
  picture,
}: {
  compare: Compare;
  mapping: Mapping;
  picture: { w: number; h: number };
}) {
  const left = mapping.x + picture.w * mapping.zoom * at;
  const top = mapping.y;
  const height = picture.h * mapping.zoom;
  const set = (x: number) => act({ do: "compare", with: { at: Math.min(1, Math.max(0, x)) } });
  return (
    <div
      role="slider"
      tabIndex={0}
      aria-label={`Wipe between ${other.kind === "untouched" ? "the untouched clip" : "what it is compared with"} and the shot`}
      aria-valuenow={Math.round(at * 100)}
      aria-valuemin={0}
      aria-valuemax={100}
      className="absolute w-5 -translate-x-1/2 cursor-ew-resize touch-none"
      style={{ left, top, height }}
      onKeyDown={(e) => {
        if (e.key !== "ArrowLeft" && e.key !== "ArrowRight") return;
        e.preventDefault();
        e.stopPropagation();
        set(at + (e.key === "ArrowLeft" ? -0.02 : 0.02));
      }}
      onPointerDown={(e) => {
        e.stopPropagation();
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={(e) => {
        if (!e.currentTarget.hasPointerCapture(e.pointerId)) return;
        const box = e.currentTarget.parentElement!.getBoundingClientRect();
        set((e.clientX - box.left - mapping.x) / (picture.w * mapping.zoom));
      }}
    >
      <i className="absolute inset-y-0 left-1/2 w-[2px] -translate-x-1/2 bg-(--on-picture) shadow" />
      <b className="absolute top-1/2 left-1/2 h-11 w-3 -translate-x-1/2 -translate-y-1/2 rounded-full border-2 border-(--dark-on-picture) bg-(--on-picture)" />
      <span className="absolute right-full bottom-2 mr-1 rounded-full bg-black/65 px-2 py-0.5 text-[11px] whitespace-nowrap text-on-well">
        untouched
      </span>
      <span className="absolute bottom-2 left-full ml-1 rounded-full bg-black/65 px-2 py-0.5 text-[11px] whitespace-nowrap text-on-well">
        shot
      </span>
    </div>
  );
}

/** A way of looking that has a picture of its own, as in a frame's address; null where what it shows is gone. */
function special(shown: Shown, shot: Shot): string | null {
  if (shown.kind === "held" && shot.motions.some((m) => m.id === shown.motion)) return `held-${shown.motion}`;
  if (shown.kind === "alone" && findLayer(shot, shown.layer)) return `${shown.over}-${shown.layer}`;
  if (shown.kind === "half" && shot.plate.some((t) => t.id === shown.clean)) return `half-${shown.clean}`;
  return null;
}
