import type { Spot } from "~/api/client";
import { atDepthOf, onLevel, type RoomCamera } from "~/workspace/camera";
import { type Point, valueAt, withValue } from "~/workspace/geometry";

/**
 * A spot dragged to a pixel: over the level it stands on, or with `lift` up and down where it stands. What is held lies
 * so many metres `above` the spot.
 */
export function movedSpot(
  camera: RoomCamera,
  spot: Spot,
  frame: number,
  at: Point,
  lift: boolean,
  above = 0,
): Spot {
  const now = [spot.x, spot.y, spot.z].map((v) => valueAt(v, frame)) as [number, number, number];
  now[1] += above;
  const place = (lift ? null : onLevel(camera, frame, at, now[1])) ?? atDepthOf(camera, frame, at, now);
  const put = (v: Spot["x"], to: number) => withValue(v, frame, Math.round(to * 1e5) / 1e5);
  return {
    ...spot,
    x: put(spot.x, place[0]),
    y: put(spot.y, (lift ? place[1] : now[1]) - above),
    z: put(spot.z, place[2]),
  };
}
