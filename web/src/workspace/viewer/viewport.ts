import type { Viewport } from "~/workspace/store";
import type { Point } from "~/workspace/geometry";

/** The one transform between picture pixels and screen pixels of the viewer. */
export interface Mapping {
  zoom: number;
  x: number;
  y: number;
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

export const toScreen = (m: Mapping, p: Point): Point => ({ x: p.x * m.zoom + m.x, y: p.y * m.zoom + m.y });
export const toPicture = (m: Mapping, p: Point): Point => ({
  x: (p.x - m.x) / m.zoom,
  y: (p.y - m.y) / m.zoom,
});

/** Zoom about a screen point. */
export function zoomed(m: Mapping, about: Point, factor: number): Viewport {
  const zoom = Math.min(32, Math.max(0.05, m.zoom * factor));
  const p = toPicture(m, about);
  return { zoom, x: about.x - p.x * zoom, y: about.y - p.y * zoom };
}
