import { Redo2, Undo2 } from "lucide-react";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Clean, CleanFrame, Stroke } from "~/api/client";
import { Button } from "~/ui/Button";
import { dragFrom } from "~/ui/drag";
import { useOpenShot } from "~/workspace/context";
import { type BrushSettings, preview, thinned, TOOLS } from "~/workspace/desk/brush";
import { DeskMarks } from "~/workspace/desk/DeskMarks";
import { DeskSide } from "~/workspace/desk/DeskSide";
import { useDeskPicture } from "~/workspace/desk/useDeskPicture";
import type { Point } from "~/workspace/geometry";
import { setOnPlate } from "~/workspace/patches";
import { type Viewport, act, useWorkspace } from "~/workspace/store";
import { mappingOf, toPicture, toScreen, zoomed } from "~/workspace/viewer/viewport";

const START: BrushSettings = { tool: "clone", size: 44, hard: 55, flow: 100, colour: "#8a6b45" };

/** The paint desk: one clean frame, put right by hand. Strokes are part of the shot, so undo takes them back one by one. */
export function PaintDesk() {
  const { record } = useOpenShot();
  const desk = useWorkspace((s) => s.desk);
  const clean = record.document.plate.find((t): t is Clean => t.kind === "clean" && t.id === desk?.id);
  const given = clean?.frames.find((f) => f.frame === desk?.frame);
  // The frame may be gone by an undo: then the desk has nothing to show.
  useEffect(() => {
    if (desk && !given) act({ do: "desk", desk: null });
  }, [desk, given]);
  if (!desk || !clean || !given || !record.document.footage) return null;
  return <Desk key={`${clean.id}:${given.frame}`} clean={clean} given={given} />;
}

function Desk({ clean, given }: { clean: Clean; given: CleanFrame }) {
  const { record, shotId, edits } = useOpenShot();
  const footage = record.document.footage!;
  const picture = useMemo(() => ({ w: footage.width, h: footage.height }), [footage]);
  const [brush, setBrush] = useState(START);
  const [viewport, setViewport] = useState<Viewport>({ zoom: null, x: 0, y: 0 });
  const [size, setSize] = useState({ w: 100, h: 100 });
  const [over, setOver] = useState<Point | null>(null);
  /** Where the source is for the next stroke, until that fixes how far away it is. */
  const [source, setSource] = useState<Point | null>(null);
  const [offset, setOffset] = useState<Point | null>(null);
  const [asFilmed, setAsFilmed] = useState(false);
  const [masksShown, setMasksShown] = useState(true);
  const [waiting, setWaiting] = useState(0);
  const [hint, setHint] = useState("");
  const well = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const { shown, filmed, behind, problem } = useDeskPicture(
    shotId,
    record.picture,
    clean.id,
    given.frame,
    footage.asset,
  );
  const mapping = mappingOf(viewport, size, picture);
  const fresh = useRef<HTMLCanvasElement | null>(null);
  const taking = brush.tool === "clone" || brush.tool === "heal";

  useEffect(() => {
    const element = well.current!;
    const watcher = new ResizeObserver(() => setSize({ w: element.clientWidth, h: element.clientHeight }));
    watcher.observe(element);
    return () => watcher.disconnect();
  }, []);

  // Strokes under way lie on a picture of their own until the server's answer shows them.
  if (!fresh.current) {
    fresh.current = document.createElement("canvas");
    fresh.current.width = picture.w;
    fresh.current.height = picture.h;
  }
  const draw = useCallback(() => {
    const element = canvas.current;
    const context = element?.getContext("2d", { alpha: false });
    if (!element || !context) return;
    const ratio = devicePixelRatio;
    const [w, h] = [Math.round(size.w * ratio), Math.round(size.h * ratio)];
    if (element.width !== w || element.height !== h) {
      element.width = w;
      element.height = h;
    }
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.fillStyle = getComputedStyle(element).getPropertyValue("--well");
    context.fillRect(0, 0, w, h);
    context.setTransform(
      mapping.zoom * ratio,
      0,
      0,
      mapping.zoom * ratio,
      mapping.x * ratio,
      mapping.y * ratio,
    );
    context.imageSmoothingEnabled = mapping.zoom * ratio < 3;
    // The filmed frame stands in until the painted one is here.
    const bitmap = asFilmed ? filmed : (shown ?? filmed);
    if (bitmap) context.drawImage(bitmap, 0, 0, picture.w, picture.h);
    if (!asFilmed) context.drawImage(fresh.current!, 0, 0);
  }, [size, mapping.zoom, mapping.x, mapping.y, asFilmed, filmed, shown, picture]);
  useEffect(draw, [draw]);
  useEffect(() => {
    if (waiting || behind) return;
    fresh.current!.getContext("2d")!.clearRect(0, 0, picture.w, picture.h);
    draw();
  }, [waiting, behind, shown, picture, draw]);

  const local = (e: { clientX: number; clientY: number }): Point => {
    const box = well.current!.getBoundingClientRect();
    return toPicture(mapping, { x: e.clientX - box.left, y: e.clientY - box.top });
  };

  const lay = (stroke: Stroke) => {
    setWaiting((n) => n + 1);
    const label = TOOLS.find((t) => t.tool === stroke.tool)!.label;
    void edits
      .edit(`${label} on frame ${given.frame}`, (latest) => {
        const now = latest.plate.find((t): t is Clean => t.id === clean.id && t.kind === "clean") ?? clean;
        const frames = now.frames.map((f) =>
          f.frame === given.frame ? { ...f, strokes: [...f.strokes, stroke] } : f,
        );
        return setOnPlate(latest, clean.id, { frames });
      })
      .finally(() => setWaiting((n) => n - 1));
  };

  const press = (e: React.PointerEvent<HTMLDivElement>) => {
    (document.activeElement as HTMLElement | null)?.blur();
    if (e.button === 1 || (e.button === 0 && spaceHeld.current)) {
      const start = { x: e.clientX, y: e.clientY };
      dragFrom(e, (m) =>
        setViewport({
          zoom: mapping.zoom,
          x: mapping.x + m.clientX - start.x,
          y: mapping.y + m.clientY - start.y,
        }),
      );
      return;
    }
    const at = local(e);
    if (e.button === 2) {
      takeFrom(at);
      return;
    }
    if (e.button !== 0 || !shown || asFilmed) return;
    if (taking && !source && !offset) {
      setHint("Right-click first, where to take the picture from (or press S there).");
      return;
    }
    setHint("");
    const away = taking ? (source ? { x: source.x - at.x, y: source.y - at.y } : offset!) : { x: 0, y: 0 };
    if (taking) {
      setOffset(away);
      setSource(null);
    }
    const path = [at];
    const context = fresh.current!.getContext("2d")!;
    const dab = (from: Point, to: Point) => {
      preview(context, from, to, brush, away, shown, filmed);
      draw();
    };
    dab(at, at);
    dragFrom(
      e,
      (m) => {
        const now = local(m);
        dab(path.at(-1)!, now);
        path.push(now);
        setOver(now);
      },
      (letGo) => {
        if (!letGo) {
          context.clearRect(0, 0, picture.w, picture.h);
          draw();
          return;
        }
        lay({
          tool: brush.tool,
          path: thinned(path, brush.size),
          size: brush.size,
          hard: brush.hard,
          flow: brush.flow,
          dx: Math.round(away.x),
          dy: Math.round(away.y),
          colour: brush.colour,
          seed: 1,
        });
      },
    );
  };

  const takeFrom = (at: Point) => {
    if (brush.tool === "paint") {
      const colour = shown && colourAt(shown, at, picture);
      if (colour) setBrush((b) => ({ ...b, colour }));
      return;
    }
    setSource(at);
    setOffset(null);
    setHint("");
  };

  const spaceHeld = useRef(false);
  const lastOver = useRef<Point | null>(null);
  lastOver.current = over;
  useEffect(() => {
    const grow = (by: number) =>
      setBrush((b) => ({ ...b, size: Math.min(600, Math.max(2, Math.round(b.size * by))) }));
    const onKey = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || target.closest("input, textarea, [role=listbox], [role=slider]")) return;
      const tool = TOOLS.find((t) => t.key === e.key.toUpperCase());
      if (tool) setBrush((b) => ({ ...b, tool: tool.tool }));
      else if (e.key === "ArrowUp") grow(1.15);
      else if (e.key === "ArrowDown") grow(1 / 1.15);
      else if (e.key === "Escape") act({ do: "desk", desk: null });
      else if (e.key === "0") setViewport({ zoom: null, x: 0, y: 0 });
      else if (e.key.toLowerCase() === "s") {
        if (lastOver.current) takeFrom(lastOver.current);
      } else if (e.key === " ") {
        if (target.closest("button, a, [role=switch]")) return;
        spaceHeld.current = true;
      } else if (e.key === "Tab" || e.key === "Enter") return;
      // The keys of the workspace behind it are not meant.
      if (e.key !== "?") e.preventDefault();
      e.stopImmediatePropagation();
    };
    const onUp = (e: KeyboardEvent) => {
      if (e.key === " ") spaceHeld.current = false;
    };
    window.addEventListener("keydown", onKey, { capture: true });
    window.addEventListener("keyup", onUp);
    return () => {
      window.removeEventListener("keydown", onKey, { capture: true });
      window.removeEventListener("keyup", onUp);
    };
  });
  useEffect(() => {
    const element = well.current!;
    const onWheel = (e: WheelEvent) => {
      e.preventDefault();
      const box = element.getBoundingClientRect();
      const about = { x: e.clientX - box.left, y: e.clientY - box.top };
      setViewport(zoomed(mapping, about, Math.exp(-e.deltaY * 0.0016)));
    };
    element.addEventListener("wheel", onWheel, { passive: false });
    return () => element.removeEventListener("wheel", onWheel);
  });

  const radius = (brush.size / 2) * mapping.zoom;
  const from = taking && (source ?? (over && offset ? { x: over.x + offset.x, y: over.y + offset.y } : null));
  return (
    <section
      aria-label="Paint desk"
      className="absolute inset-0 z-30 grid grid-cols-[minmax(0,1fr)_308px] grid-rows-[44px_minmax(0,1fr)] bg-well"
    >
      <div role="toolbar" aria-label="Painting" className="on-well col-span-2 flex items-center gap-1 px-2">
        <b className="mr-2 pl-1 text-sm text-on-well">
          Paint desk <span className="font-normal text-on-well-2">· frame</span>{" "}
          <span className="num font-normal text-on-well-2">{given.frame}</span>
        </b>
        {TOOLS.map((t) => (
          <Button
            key={t.tool}
            look="well"
            aria-pressed={brush.tool === t.tool}
            title={`${t.hint} (${t.key})`}
            onClick={() => setBrush((b) => ({ ...b, tool: t.tool }))}
          >
            {t.label}
          </Button>
        ))}
        <span className="ml-2 min-w-0 flex-1 truncate text-xs text-on-well-2" data-testid="desk-hint">
          {hint || TOOLS.find((t) => t.tool === brush.tool)!.hint}
        </span>
        <Button
          look="well"
          aria-label="Undo"
          title={record.undo ? `Take back: ${record.undo}` : "Nothing to undo"}
          onClick={() => void edits.undo()}
        >
          <Undo2 className="size-4" />
        </Button>
        <Button
          look="well"
          aria-label="Redo"
          title={record.redo ? `Again: ${record.redo}` : "Nothing to redo"}
          onClick={() => void edits.redo()}
        >
          <Redo2 className="size-4" />
        </Button>
        <Button look="primary" onClick={() => act({ do: "desk", desk: null })}>
          Done
        </Button>
      </div>
      <div
        ref={well}
        data-testid="desk-well"
        className="relative min-h-0 touch-none overflow-hidden"
        style={{ cursor: "none" }}
        onPointerDown={press}
        onPointerMove={(e) => setOver(local(e))}
        onPointerLeave={() => setOver(null)}
        onContextMenu={(e) => e.preventDefault()}
      >
        <canvas
          ref={canvas}
          role="img"
          aria-label={`Frame ${given.frame} at the paint desk`}
          data-strokes={!waiting && !behind ? given.strokes.length : ""}
          className="absolute inset-0 size-full"
        />
        <DeskMarks
          frame={given.frame}
          masks={masksShown}
          show={(p) => toScreen(mapping, p)}
          cursor={over}
          source={from || null}
          radius={radius}
          hard={brush.hard}
        />
        {(waiting > 0 || behind) && (
          <span
            role="status"
            className="absolute top-3 left-1/2 -translate-x-1/2 rounded-full bg-black/70 px-3 py-1 text-xs text-on-well"
          >
            {shown ? "Laying the stroke …" : "Opening the frame …"}
          </span>
        )}
        {problem && (
          <span className="absolute bottom-3 left-1/2 -translate-x-1/2 rounded-md bg-brick-2 px-3 py-1.5 text-xs text-brick">
            {problem}
          </span>
        )}
      </div>
      <DeskSide
        clean={clean}
        given={given}
        brush={brush}
        setBrush={setBrush}
        asFilmed={asFilmed}
        setAsFilmed={setAsFilmed}
        masksShown={masksShown}
        setMasksShown={setMasksShown}
      />
    </section>
  );
}

function colourAt(picture: ImageBitmap, at: Point, size: { w: number; h: number }): string | null {
  if (at.x < 0 || at.y < 0 || at.x >= size.w || at.y >= size.h) return null;
  const one = document.createElement("canvas");
  one.width = one.height = 3;
  const context = one.getContext("2d")!;
  context.drawImage(picture, -Math.floor(at.x) + 1, -Math.floor(at.y) + 1);
  const data = context.getImageData(0, 0, 3, 3).data;
  const mean = [0, 1, 2].map((c) => {
    let sum = 0;
    for (let k = 0; k < 9; k++) sum += data[4 * k + c]!;
    return Math.round(sum / 9);
  });
  return `#${mean.map((v) => v.toString(16).padStart(2, "0")).join("")}`;
}
