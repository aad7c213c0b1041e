import { type Matrix, times } from "~/workspace/geometry";
import type { Mapping } from "~/workspace/viewer/viewport";

/** From pixels of the clip to the screen, for an element that lies over the picture. */
export function screenMatrix({ zoom, x, y, view }: Mapping): string {
  const onScreen: Matrix = [zoom, 0, x, 0, zoom, y, 0, 0, 1];
  const m = view ? times(onScreen, view) : onScreen;
  return `matrix3d(${m[0]},${m[3]},0,${m[6]},${m[1]},${m[4]},0,${m[7]},0,0,1,0,${m[2]},${m[5]},0,${m[8]})`;
}
