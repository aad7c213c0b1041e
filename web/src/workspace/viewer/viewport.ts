import type { Viewport } from "~/workspace/store";
import { apply, invert, type Matrix, type Point } from "~/workspace/geometry";

/**
 * The one transform between pixels of the clip and screen pixels of the viewer. Where the clip is steadied, `view`
 * leads from its pixels to the finished picture's in this frame.
 */
export interface Mapping {
  zoom: number;
  x: number;
  y: number;
  view?: Matrix;
}

const MARGIN = 18;

export function mappingOf(
  viewport: Viewport,
  well: { w: number; h: number },
  picture: { w: number; h: number },
): Mapping {
  const fit = Math.min((well.w - 2 * MARGIN) / picture.w, (well.h - 2 * MARGIN) / picture.h);
  if (viewport.zoom === null)
    return { zoom: fit, x: (well.w - picture.w * fit) / 2, y: (well.h - picture.h * fit) / 2 };
  return { zoom: viewport.zoom, x: viewport.x, y: viewport.y };
}

export function toScreen(m: Mapping, p: Point): Point {
  const q = m.view ? apply(m.view, p) : p;
  return { x: q.x * m.zoom + m.x, y: q.y * m.zoom + m.y };
}

export function toPicture(m: Mapping, p: Point): Point {
  const q = { x: (p.x - m.x) / m.zoom, y: (p.y - m.y) / m.zoom };
  return m.view ? apply(invert(m.view), q) : q;
}

/** Zoom about a screen point. */
export function zoomed(m: Mapping, about: Point, factor: number): Viewport {
  const zoom = Math.min(32, Math.max(0.05, m.zoom * factor));
  const p = toPicture(m, about);
  return { zoom, x: about.x - p.x * zoom, y: about.y - p.y * zoom };
}
