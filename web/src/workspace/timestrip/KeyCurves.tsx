import { useEffect, useRef, useState } from "react";
import type { Key, Num } from "~/api/client";
import { dragFrom } from "~/ui/drag";
import { baseAt, keysOf, newKey } from "~/workspace/geometry";
import { useWorkspace } from "~/workspace/store";
import {
  fieldsOf,
  keyOfPath,
  type Moving,
  sameSpot,
  type Spot,
  withKeys,
  withNumbers,
} from "~/workspace/timestrip/keyed";
import { type Copied, keysAt, pasted, replacedKeys, stretched } from "~/workspace/timestrip/keyChanges";
import { CurveFiles } from "~/workspace/timestrip/CurveFiles";
import { KeyTools, rangeOf, rounded } from "~/workspace/timestrip/KeyParts";
import { NumberCurve } from "~/workspace/timestrip/NumberCurve";
import { type Scale, xOf } from "~/workspace/timestrip/scale";
import { useOwner } from "~/workspace/timestrip/useOwner";

export const KEY_CURVES = 168;
/** Room above the curves for the tools, and below. */
const TOP = 36;
const BELOW = 12;
const TINTS = ["var(--tide)", "var(--plum)", "var(--brick)", "#7a8f2b", "#3f6fc9", "#a06a2c"];

let clipboard: Copied | null = null;

/**
 * The curves of the chosen thing's keyed numbers. Keys are dragged, boxed, copied and pasted, moved and scaled together;
 * a key that goes on by handles shows them.
 */
export function KeyCurves({ scale, hidden }: { scale: Scale; hidden: string[] }) {
  const { owner, numbers, change } = useOwner();
  const frame = useWorkspace((w) => w.frame);
  const svg = useRef<SVGSVGElement>(null);
  const [picked, setPicked] = useState<Spot[]>([]);
  const [live, setLive] = useState<Map<string, Num> | null>(null);
  const [box, setBox] = useState<{ x0: number; y0: number; x1: number; y1: number } | null>(null);
  const shown = numbers.filter((n) => !hidden.includes(keyOfPath(n.path)));
  useEffect(() => setPicked([]), [owner?.id]);
  if (!owner) return null;

  const valueOf = (n: Moving): Num => live?.get(keyOfPath(n.path)) ?? n.value;
  const ranges = new Map(shown.map((n) => [keyOfPath(n.path), rangeOf(n.value, scale.frames)]));
  const yOf = (path: string, value: number) => {
    const { low, high } = ranges.get(path) ?? { low: 0, high: 1 };
    return TOP + (1 - (value - low) / (high - low)) * (KEY_CURVES - TOP - BELOW);
  };
  const perPixel = (path: string) => {
    const { low, high } = ranges.get(path) ?? { low: 0, high: 1 };
    return (high - low) / (KEY_CURVES - TOP - BELOW);
  };
  const frameWidth = (scale.width - 20) / scale.frames;
  const isPicked = (s: Spot) => picked.some((p) => sameSpot(p, s));
  const selectedKeys = () => keysAt(shown, picked);
  const replaced = (spots: Spot[], to: (key: Key, path: string) => Key | null) =>
    replacedKeys(shown, spots, to, frame, scale.frames);
  const store = (label: string, changes: Map<string, Num>) => {
    if (changes.size)
      void change(label, fieldsOf(changes), (thing) => withNumbers(thing, changes)).finally(() =>
        setLive(null),
      );
    else setLive(null);
  };

  const grabKey = (e: React.PointerEvent<SVGElement>, spot: Spot) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    svg.current?.focus();
    let spots = isPicked(spot) ? picked : [spot];
    if (e.shiftKey) spots = isPicked(spot) ? picked.filter((p) => !sameSpot(p, spot)) : [...picked, spot];
    setPicked(spots);
    const from = { x: e.clientX, y: e.clientY };
    let changes: Map<string, Num> | null = null;
    let frames = 0;
    dragFrom(
      e,
      (m) => {
        const [dx, dy] = [m.clientX - from.x, m.clientY - from.y];
        if (!changes && Math.hypot(dx, dy) < 3) return;
        // With Shift only the longer of the two ways counts.
        const across = m.shiftKey && Math.abs(dy) > Math.abs(dx) ? 0 : dx;
        const down = m.shiftKey && Math.abs(dx) >= Math.abs(dy) ? 0 : dy;
        frames = Math.round(across / frameWidth);
        changes = replaced(spots, (k, path) => ({
          ...k,
          frame: k.frame + frames,
          value: rounded(k.value - down * perPixel(path)),
        }));
        setLive(changes);
      },
      (letGo) => {
        if (!letGo || !changes) return setLive(null);
        setPicked(spots.map((s) => ({ ...s, frame: s.frame + frames })));
        store(spots.length > 1 ? `Move ${spots.length} keys` : "Move a key", changes);
      },
    );
  };

  const grabHandle = (e: React.PointerEvent<SVGElement>, n: Moving, k: number, side: "out" | "in") => {
    e.stopPropagation();
    const path = keyOfPath(n.path);
    const keys = keysOf(n.value);
    const key = keys[k]!;
    const other = side === "out" ? keys[k + 1]! : keys[k - 1]!;
    const room = Math.abs(other.frame - key.frame) * frameWidth;
    const from = { x: e.clientX, y: e.clientY };
    let changes: Map<string, Num> | null = null;
    dragFrom(
      e,
      (m) => {
        const dx = (m.clientX - from.x) * (side === "out" ? 1 : -1);
        const dy = -(m.clientY - from.y) * perPixel(path);
        const time = (side === "out" ? key.out_time : key.in_time) + dx / room;
        const value = (side === "out" ? key.out_value : key.in_value) + dy;
        const t = Number(Math.min(1, Math.max(0, time)).toFixed(3));
        changes = replaced([{ path, frame: key.frame }], (old) =>
          side === "out"
            ? { ...old, out_time: t, out_value: rounded(value) }
            : { ...old, in_time: t, in_value: rounded(value) },
        );
        setLive(changes);
      },
      (letGo) => (letGo && changes ? store("Bend a curve", changes) : setLive(null)),
    );
  };

  const boxFrom = (e: React.PointerEvent<SVGSVGElement>) => {
    if (e.button !== 0) return;
    e.stopPropagation();
    svg.current?.focus();
    const bounds = svg.current!.getBoundingClientRect();
    const at = (m: { clientX: number; clientY: number }) => ({
      x: m.clientX - bounds.left,
      y: m.clientY - bounds.top,
    });
    const start = at(e);
    const add = e.shiftKey ? picked : [];
    let end = start;
    dragFrom(
      e,
      (m) => {
        end = at(m);
        setBox({
          x0: Math.min(start.x, end.x),
          y0: Math.min(start.y, end.y),
          x1: Math.max(start.x, end.x),
          y1: Math.max(start.y, end.y),
        });
      },
      () => {
        setBox(null);
        const [x0, x1] = [Math.min(start.x, end.x), Math.max(start.x, end.x)];
        const [y0, y1] = [Math.min(start.y, end.y), Math.max(start.y, end.y)];
        const inside = shown.flatMap((n) => {
          const path = keyOfPath(n.path);
          return keysOf(n.value)
            .filter((k) => {
              const [x, y] = [xOf(scale, k.frame), yOf(path, k.value)];
              return x >= x0 - 4 && x <= x1 + 4 && y >= y0 - 4 && y <= y1 + 4;
            })
            .map((k) => ({ path, frame: k.frame }));
        });
        setPicked([...add, ...inside.filter((s) => !add.some((a) => sameSpot(a, s)))]);
      },
    );
  };

  const stretch = (e: React.PointerEvent<SVGElement>, way: "time" | "value") => {
    e.stopPropagation();
    const chosen = selectedKeys();
    const first = Math.min(...chosen.map((c) => c.key.frame));
    const last = Math.max(...chosen.map((c) => c.key.frame));
    const from = { x: e.clientX, y: e.clientY };
    const tall = Math.max(24, spread.y1 - spread.y0);
    let changes: Map<string, Num> | null = null;
    let by = 1;
    dragFrom(
      e,
      (m) => {
        by =
          way === "time"
            ? Math.max(0.05, 1 + (m.clientX - from.x) / Math.max(8, (last - first) * frameWidth))
            : 1 - (m.clientY - from.y) / tall;
        changes = replaced(picked, stretched(chosen, way, by));
        setLive(changes);
      },
      (letGo) => {
        if (!letGo || !changes) return setLive(null);
        if (way === "time")
          setPicked(picked.map((s) => ({ ...s, frame: Math.round(first + (s.frame - first) * by) })));
        store(`Scale ${picked.length} keys`, changes);
      },
    );
  };

  const ease = (kind: Key["ease"]) =>
    store(
      "Ease of keys",
      replaced(picked, (k) => ({ ...k, ease: kind })),
    );
  const copy = () => {
    const keys = selectedKeys();
    if (keys.length) clipboard = { keys, first: Math.min(...keys.map((k) => k.key.frame)) };
  };
  const paste = () => {
    if (!clipboard) return;
    const { changes, spots } = pasted(shown, clipboard, frame, scale.frames);
    setPicked(spots);
    store("Paste keys", changes);
  };

  const chosen = selectedKeys();
  const spread = {
    x0: Math.min(...chosen.map((c) => xOf(scale, c.key.frame))),
    x1: Math.max(...chosen.map((c) => xOf(scale, c.key.frame))),
    y0: Math.min(...chosen.map((c) => yOf(c.path, c.key.value))),
    y1: Math.max(...chosen.map((c) => yOf(c.path, c.key.value))),
  };
  const several = chosen.length > 1;
  const one = chosen[0]?.key.ease;

  return (
    <div className="relative border-b border-line" style={{ height: KEY_CURVES }}>
      <svg
        ref={svg}
        tabIndex={0}
        role="group"
        aria-label={`Key curves of ${owner.name}`}
        width={scale.width}
        height={KEY_CURVES}
        className="block touch-none outline-offset-[-2px]"
        onPointerDown={boxFrom}
        onDoubleClick={(e) => {
          const bounds = svg.current!.getBoundingClientRect();
          const at = Math.round((e.clientX - bounds.left - 10) / frameWidth - 0.5);
          const n =
            shown.length === 1
              ? shown[0]
              : shown.find((s) => picked.some((p) => p.path === keyOfPath(s.path)));
          if (n)
            store(
              "Add a key",
              new Map([
                [
                  keyOfPath(n.path),
                  withKeys(n.value, [...keysOf(n.value), newKey(at, baseAt(n.value, at))], scale.frames),
                ],
              ]),
            );
        }}
        onKeyDown={(e) => {
          const key = e.key.toLowerCase();
          const step = { arrowleft: [-1, 0], arrowright: [1, 0], arrowup: [0, 1], arrowdown: [0, -1] }[key];
          if ((e.ctrlKey || e.metaKey) && key === "c") copy();
          else if ((e.ctrlKey || e.metaKey) && key === "v") paste();
          else if ((e.ctrlKey || e.metaKey) && key === "a")
            setPicked(
              shown.flatMap((n) => keysOf(n.value).map((k) => ({ path: keyOfPath(n.path), frame: k.frame }))),
            );
          else if ((key === "delete" || key === "backspace") && picked.length) {
            store(
              picked.length > 1 ? `Remove ${picked.length} keys` : "Remove a key",
              replaced(picked, () => null),
            );
            setPicked([]);
          } else if (step && picked.length) {
            const by = e.shiftKey ? 10 : 1;
            store(
              "Move keys",
              replaced(picked, (k, path) => ({
                ...k,
                frame: k.frame + step[0]! * by,
                value: rounded(k.value + step[1]! * by * perPixel(path)),
              })),
            );
            setPicked(picked.map((s) => ({ ...s, frame: s.frame + step[0]! * by })));
          } else return;
          e.preventDefault();
          e.stopPropagation();
        }}
      >
        <rect width={scale.width} height={KEY_CURVES} fill="var(--raise)" />
        {shown.map((n, row) => {
          const path = keyOfPath(n.path);
          return (
            <NumberCurve
              key={path}
              number={n}
              value={valueOf(n)}
              row={row}
              tint={TINTS[numbers.indexOf(n) % TINTS.length]!}
              range={ranges.get(path)!}
              scale={scale}
              y={(value) => yOf(path, value)}
              picked={(frame) => isPicked({ path, frame })}
              onKey={(e, frame) => grabKey(e, { path, frame })}
              onHandle={(e, at, side) => grabHandle(e, n, at, side)}
            />
          );
        })}
        {several && !live && (
          <>
            <rect
              x={spread.x0 - 9}
              y={spread.y0 - 9}
              width={spread.x1 - spread.x0 + 18}
              height={spread.y1 - spread.y0 + 18}
              fill="none"
              stroke="var(--saffron)"
              strokeDasharray="4 3"
              pointerEvents="none"
            />
            <rect
              x={spread.x1 + 6}
              y={(spread.y0 + spread.y1) / 2 - 9}
              width="7"
              height="18"
              rx="3"
              fill="var(--saffron)"
              className="cursor-ew-resize"
              aria-label="Scale in time"
              data-testid="scale-time"
              onPointerDown={(e) => stretch(e, "time")}
            />
            <rect
              x={(spread.x0 + spread.x1) / 2 - 9}
              y={spread.y0 - 13}
              width="18"
              height="7"
              rx="3"
              fill="var(--saffron)"
              className="cursor-ns-resize"
              aria-label="Scale values"
              data-testid="scale-value"
              onPointerDown={(e) => stretch(e, "value")}
            />
          </>
        )}
        {box && (
          <rect
            x={box.x0}
            y={box.y0}
            width={box.x1 - box.x0}
            height={box.y1 - box.y0}
            fill="var(--saffron-bar)"
            fillOpacity="0.15"
            stroke="var(--saffron)"
          />
        )}
        {!shown.length && (
          <text x="14" y="30" fontSize="11.5" fill="var(--ink-2)">
            No keys yet: the diamond beside a number sets one.
          </text>
        )}
      </svg>
      <span className="absolute top-0.5 right-2 rounded-md border border-line bg-sheet p-0.5">
        <CurveFiles owner={owner.id} any={numbers.length > 0} />
      </span>
      {chosen.length > 0 && (
        <KeyTools ease={one} canPaste={clipboard !== null} onEase={ease} onCopy={copy} onPaste={paste} />
      )}
    </div>
  );
}
