import type { Stroke } from "~/api/client";
import type { Point } from "~/workspace/geometry";
import { round } from "~/workspace/patches";

export type DeskTool = Stroke["tool"];

export interface BrushSettings {
  tool: DeskTool;
  size: number;
  hard: number;
  flow: number;
  colour: string;
}

export const TOOLS: { tool: DeskTool; label: string; key: string; hint: string }[] = [
  { tool: "clone", label: "Clone", key: "C", hint: "Right-click where to take from, then paint" },
  {
    tool: "heal",
    label: "Heal",
    key: "H",
    hint: "Right-click where to take from; it takes on the light of the place",
  },
  { tool: "paint", label: "Soft brush", key: "B", hint: "Paint with a colour; right-click picks it up" },
  { tool: "suggest", label: "Suggest", key: "G", hint: "Paint over what should go: the rest goes on inside" },
  { tool: "restore", label: "Restore", key: "R", hint: "Paint to bring the filmed frame back" },
];

/** Points closer together than this share of the brush say nothing new. */
const APART = 0.12;

/** The path without points that lie too close together. */
export function thinned(path: Point[], size: number): [number, number][] {
  const out: Point[] = [];
  path.forEach((p, k) => {
    const last = out.at(-1);
    const far = !last || Math.hypot(p.x - last.x, p.y - last.y) >= Math.max(size * APART, 0.5);
    if (far || k === path.length - 1) out.push(p);
  });
  return out.slice(0, 4000).map((p) => [round(p.x), round(p.y)]);
}

/** A piece of a stroke, drawn at once while it is made; the server lays the stroke itself when it is let go. */
export function preview(
  context: CanvasRenderingContext2D,
  from: Point,
  to: Point,
  brush: BrushSettings,
  offset: Point,
  picture: CanvasImageSource,
  filmed: CanvasImageSource | null,
): void {
  const radius = brush.size / 2;
  const steps = Math.max(1, Math.ceil(Math.hypot(to.x - from.x, to.y - from.y) / Math.max(radius / 3, 1)));
  const seen = radius * (0.55 + 0.45 * (brush.hard / 100));
  for (let k = 1; k <= steps; k++) {
    const x = from.x + ((to.x - from.x) * k) / steps;
    const y = from.y + ((to.y - from.y) * k) / steps;
    context.save();
    context.beginPath();
    context.arc(x, y, seen, 0, 2 * Math.PI);
    if (brush.tool === "paint" || brush.tool === "suggest") {
      context.globalAlpha =
        brush.tool === "suggest" ? 0.5 : (brush.flow / 100) * (brush.hard > 80 ? 1 : 0.35);
      context.fillStyle = brush.tool === "suggest" ? "#8a5fc0" : brush.colour;
      context.fill();
    } else {
      context.clip();
      context.globalAlpha = brush.flow / 100;
      if (brush.tool === "restore") {
        if (filmed) context.drawImage(filmed, 0, 0);
      } else context.drawImage(picture, -Math.round(offset.x), -Math.round(offset.y));
    }
    context.restore();
  }
}
