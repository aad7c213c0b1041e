import { ToggleGroup } from "radix-ui";
import { X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useChosenLayer } from "~/workspace/context";
import { has } from "~/workspace/kinds";
import { act, useWorkspace } from "~/workspace/store";
import { type FrameAddress, frameUrl } from "~/workspace/viewer/frames";
import {
  CODES,
  COLUMNS,
  covered,
  histogram,
  inked,
  levelsOf,
  type Pixels,
  vectors,
  waveform,
} from "~/workspace/viewer/scopes";
import { type Mapping, toPicture } from "~/workspace/viewer/viewport";

type Kind = "brightness" | "channels" | "colours" | "counts";
const KINDS: { id: Kind; label: string; title: string }[] = [
  { id: "brightness", label: "Waveform", title: "How bright the picture is, from its left to its right" },
  { id: "channels", label: "Parade", title: "Red, green and blue beside each other, from left to right" },
  { id: "colours", label: "Vectors", title: "Which colours there are: the further out, the stronger" },
  { id: "counts", label: "Histogram", title: "How much of the picture has each code" },
];
const RGB = ["#e2705f", "#7fb77a", "#6f9fdc"] as const;
/** Pixels of the longer side that are counted. */
const COUNTED = 480;

interface ScopesProps {
  address: FrameAddress;
  frame: number;
  mapping: Mapping;
  size: { w: number; h: number };
  picture: { w: number; h: number };
}

/** Scopes of the shown frame, or of what is in view; of the chosen layer beside what is round it. */
export function Scopes({ address, frame, mapping, size, picture }: ScopesProps) {
  const [kind, setKind] = useState<Kind>("brightness");
  const [where, setWhere] = useState<"all" | "view" | "element">("all");
  const layer = useChosenLayer();
  const playing = useWorkspace((s) => s.playing);
  const element = layer && !has("layer", layer, "wash") ? layer : null;
  const of = where === "element" && !element ? "all" : where;
  const corners = [
    toPicture({ ...mapping, view: undefined }, { x: 0, y: 0 }),
    toPicture({ ...mapping, view: undefined }, { x: size.w, y: size.h }),
  ];
  const clamp = (v: number, most: number) => Math.min(most, Math.max(0, v));
  const box =
    of === "view"
      ? {
          x: clamp(corners[0]!.x, picture.w - 1),
          y: clamp(corners[0]!.y, picture.h - 1),
          w: Math.max(1, clamp(corners[1]!.x, picture.w) - clamp(corners[0]!.x, picture.w - 1)),
          h: Math.max(1, clamp(corners[1]!.y, picture.h) - clamp(corners[0]!.y, picture.h - 1)),
        }
      : { x: 0, y: 0, w: picture.w, h: picture.h };
  const half = { ...address, percent: 50 };
  const final = frameUrl(half, frame);
  const plate = frameUrl({ ...half, view: "plate" }, frame);
  const matte = element ? frameUrl({ ...half, view: `matte-${element.id}` }, frame) : null;
  const shares = JSON.stringify([box, picture]);
  const [shown, setShown] = useState<{ label: string; pixels: Pixels }[]>([]);

  useEffect(() => {
    if (playing) return;
    const stop = new AbortController();
    const [cut, whole] = JSON.parse(shares) as [typeof box, typeof picture];
    const read = (url: string) => pixelsOf(url, cut, whole, stop.signal);
    const work = async () => {
      if (of === "element" && matte) {
        const [a, b, m] = await Promise.all([read(final), read(plate), read(matte)]);
        return [
          { label: "Element", pixels: { ...a, counts: covered(m.data, true) } },
          { label: "Plate", pixels: { ...b, counts: covered(m.data, false) } },
        ];
      }
      return [{ label: of === "view" ? "In view" : "Picture", pixels: await read(final) }];
    };
    // A picture that could not be fetched leaves what is shown; the well says what is wrong.
    work().then(setShown, () => undefined);
    return () => stop.abort();
  }, [final, plate, matte, of, shares, playing]);

  return (
    <section
      aria-label="Scopes"
      className="absolute bottom-2 left-2 z-10 w-[330px] rounded-lg border border-white/15 bg-[#1b1d20]/95 p-2 text-on-well shadow-xl"
    >
      <div className="mb-1.5 flex items-center gap-1">
        <Choice label="Scope" value={kind} options={KINDS} onChange={setKind} />
        <span className="flex-1" />
        <button aria-label="Close scopes" onClick={() => act({ do: "open", what: "scopes", on: false })}>
          <X className="size-4" />
        </button>
      </div>
      <div className="flex gap-2">
        {shown.map((one) => (
          <figure key={one.label} className="min-w-0 flex-1">
            <Scope kind={kind} pixels={one.pixels} label={one.label} />
            <Told label={one.label} pixels={one.pixels} />
          </figure>
        ))}
        {!shown.length && <p className="h-[150px] text-xs text-on-well-2">Counting …</p>}
      </div>
      <div className="mt-1.5">
        <Choice
          label="What is counted"
          value={of}
          options={[
            { id: "all" as const, label: "All", title: "The whole picture" },
            {
              id: "view" as const,
              label: "In view",
              title: "What the viewer shows of it: zoom in on a part",
            },
            ...(element
              ? [
                  {
                    id: "element" as const,
                    label: "Element and plate",
                    title: "The chosen layer beside the plate round it",
                  },
                ]
              : []),
          ]}
          onChange={setWhere}
        />
      </div>
    </section>
  );
}

interface ChoiceProps<T extends string> {
  label: string;
  value: T;
  options: { id: T; label: string; title: string }[];
  onChange: (value: T) => void;
}

function Choice<T extends string>({ label, value, options, onChange }: ChoiceProps<T>) {
  return (
    <ToggleGroup.Root
      type="single"
      value={value}
      aria-label={label}
      onValueChange={(v) => v && onChange(v as T)}
      className="flex rounded-md bg-white/10 p-0.5"
    >
      {options.map((o) => (
        <ToggleGroup.Item
          key={o.id}
          value={o.id}
          title={o.title}
          className="rounded px-1.5 py-0.5 text-[11px] data-[state=on]:bg-(--on-picture) data-[state=on]:font-semibold data-[state=on]:text-(--dark-on-picture)"
        >
          {o.label}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

function Told({ label, pixels }: { label: string; pixels: Pixels }) {
  const told = levelsOf(pixels);
  return (
    <figcaption className="num mt-1 text-[10.5px] text-on-well-2">
      {label}:{" "}
      {told ? `black ${told.black} % · middle ${told.middle} % · white ${told.white} %` : "nothing to count"}
    </figcaption>
  );
}

/** One scope on a canvas of its own. */
function Scope({ kind, pixels, label }: { kind: Kind; pixels: Pixels; label: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context) return;
    context.fillStyle = "#101214";
    context.fillRect(0, 0, CODES, CODES);
    if (kind === "brightness") drawInk(context, waveform(pixels, "luma"), "#e8e4da", 0, CODES);
    if (kind === "channels")
      for (const c of [0, 1, 2] as const)
        drawInk(context, waveform(pixels, c), RGB[c], (c * CODES) / 3 + 1, CODES / 3 - 2);
    if (kind === "colours") drawVectors(context, pixels);
    if (kind === "counts") drawHistogram(context, pixels);
    else if (kind !== "colours") drawRules(context);
  }, [kind, pixels]);
  return (
    <canvas
      ref={canvas}
      width={CODES}
      height={CODES}
      role="img"
      aria-label={`${KINDS.find((k) => k.id === kind)!.label} of ${label}`}
      className="h-[150px] w-full rounded"
    />
  );
}

/** Rules at black, the quarters and white. */
function drawRules(context: CanvasRenderingContext2D) {
  context.strokeStyle = "rgb(255 255 255 / 0.16)";
  context.lineWidth = 1;
  for (const share of [0, 0.25, 0.5, 0.75, 1]) {
    const y = Math.round((1 - share) * (CODES - 1)) + 0.5;
    context.beginPath();
    context.moveTo(0, y);
    context.lineTo(CODES, y);
    context.stroke();
  }
}

function drawInk(
  context: CanvasRenderingContext2D,
  counts: Float32Array,
  colour: string,
  x: number,
  width: number,
) {
  paint(context, inked(counts), COLUMNS, colour, x, width);
}

function paint(
  context: CanvasRenderingContext2D,
  ink: Uint8ClampedArray,
  columns: number,
  colour: string,
  x: number,
  width: number,
) {
  const [r, g, b] = [1, 3, 5].map((k) => parseInt(colour.slice(k, k + 2), 16)) as [number, number, number];
  const image = new ImageData(columns, CODES);
  ink.forEach((v, k) => image.data.set([r, g, b, v], 4 * k));
  const aside = new OffscreenCanvas(columns, CODES);
  aside.getContext("2d")!.putImageData(image, 0, 0);
  context.drawImage(aside, x, 0, width, CODES);
}

function drawVectors(context: CanvasRenderingContext2D, pixels: Pixels) {
  const middle = CODES / 2;
  context.strokeStyle = "rgb(255 255 255 / 0.2)";
  for (const share of [0.25, 0.5, 0.75]) {
    context.beginPath();
    context.arc(middle, middle, middle * share, 0, 2 * Math.PI);
    context.stroke();
  }
  paint(context, inked(vectors(pixels)), CODES, "#e8e4da", 0, CODES);
  context.font = "12px sans-serif";
  context.textAlign = "center";
  context.textBaseline = "middle";
  const names: [string, string, number, number, number][] = [
    ["red", "#e2705f", 255, 0, 0],
    ["yellow", "#d8c25a", 255, 255, 0],
    ["green", "#7fb77a", 0, 255, 0],
    ["cyan", "#6cc0c4", 0, 255, 255],
    ["blue", "#6f9fdc", 0, 0, 255],
    ["purple", "#b98ac9", 255, 0, 255],
  ];
  for (const [name, colour, r, g, b] of names) {
    const y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
    const [u, v] = [(b - y) / 1.8556, (r - y) / 1.5748];
    const by = 108 / Math.hypot(u, v);
    context.fillStyle = colour;
    context.fillText(name, middle + u * by, middle - v * by);
  }
}

function drawHistogram(context: CanvasRenderingContext2D, pixels: Pixels) {
  const counts = histogram(pixels);
  let most = 1;
  // The heaps at both ends would flatten all between them.
  for (const one of counts) for (let k = 2; k < CODES - 2; k++) if (one[k]! > most) most = one[k]!;
  context.globalCompositeOperation = "lighter";
  counts.forEach((one, c) => {
    context.fillStyle = `${RGB[c]}b0`;
    context.beginPath();
    context.moveTo(0, CODES);
    one.forEach((n, k) => context.lineTo(k, CODES - Math.min(1, n / most) * (CODES - 6)));
    context.lineTo(CODES - 1, CODES);
    context.fill();
  });
  context.globalCompositeOperation = "source-over";
}

/** The pixels of a part of a frame, at most so many. */
async function pixelsOf(
  url: string,
  box: { x: number; y: number; w: number; h: number },
  picture: { w: number; h: number },
  signal: AbortSignal,
): Promise<Pixels> {
  const answer = await fetch(url, { signal });
  if (!answer.ok) throw new Error("This frame could not be fetched.");
  const bitmap = await createImageBitmap(await answer.blob());
  const scale = bitmap.width / picture.w;
  const by = Math.min(1, COUNTED / (Math.max(box.w, box.h) * scale));
  const [w, h] = [Math.max(1, Math.round(box.w * scale * by)), Math.max(1, Math.round(box.h * scale * by))];
  const aside = new OffscreenCanvas(w, h);
  const context = aside.getContext("2d", { willReadFrequently: true })!;
  context.drawImage(bitmap, box.x * scale, box.y * scale, box.w * scale, box.h * scale, 0, 0, w, h);
  bitmap.close();
  return { data: context.getImageData(0, 0, w, h).data, w, h };
}
