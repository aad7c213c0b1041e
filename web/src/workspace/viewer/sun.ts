import { across, by, dot, flipped, length, minus, plus, type RoomCamera, type V3 } from "~/workspace/camera";
import type { Point } from "~/workspace/geometry";

/** The sun of a room as a grip on a ball round what it lights. */

/** Where the light comes from (degrees) as a direction in the room. */
export function sunWay(camera: RoomCamera, frame: number, heading: number, height: number): V3 {
  const [h, e] = [(heading * Math.PI) / 180, (height * Math.PI) / 180];
  const way: V3 = [Math.cos(e) * Math.sin(h), Math.sin(e), Math.cos(e) * Math.cos(h)];
  return across(camera.lit(frame), way);
}

/** The heading nearest to the one before, and the height above the ground, of a direction in the room. */
export function sunFrom(camera: RoomCamera, frame: number, way: V3, before: number) {
  const [x, y, z] = across(flipped(camera.lit(frame)), way);
  const height = (Math.asin(Math.min(1, Math.max(-1, y / length([x, y, z])))) * 180) / Math.PI;
  // Straight overhead every heading is as good.
  const found = Math.hypot(x, z) < 1e-6 ? before : (Math.atan2(x, z) * 180) / Math.PI;
  const heading = before + ((((found - before + 180) % 360) + 360) % 360) - 180;
  return { heading, height: Math.min(90, Math.max(1, height)) };
}

export interface Ball {
  centre: V3;
  radius: number;
}

/** Whether a direction is on the side of the ball that the camera does not see. */
export const isBehind = (camera: RoomCamera, frame: number, ball: Ball, way: V3): boolean =>
  dot(minus(camera.eye(frame), plus(ball.centre, by(way, ball.radius))), way) < 0;

/**
 * The direction of the place on the ball under a pixel, on the side that is asked for; beyond the rim the rim's nearest
 * place. `beyond`: how far outside, in radii.
 */
export function onBall(
  camera: RoomCamera,
  frame: number,
  ball: Ball,
  pixel: Point,
  behind: boolean,
): { way: V3; beyond: number } {
  const eye = camera.eye(frame);
  const ray = camera.ray(frame, pixel);
  const to = minus(ball.centre, eye);
  const along = dot(to, ray);
  const passing = minus(plus(eye, by(ray, along)), ball.centre);
  const miss = length(passing) / ball.radius;
  if (miss >= 1) {
    // The rim as the camera sees it lies a little before the ball's middle.
    const lean = ball.radius / Math.max(length(to), ball.radius);
    const flat = minus(passing, by(to, dot(passing, to) / dot(to, to)));
    const side = by(flat, Math.sqrt(1 - lean * lean) / Math.max(length(flat), 1e-12));
    return { way: plus(side, by(to, -lean / length(to))), beyond: miss - 1 };
  }
  const half = ball.radius * Math.sqrt(1 - miss * miss);
  const place = plus(eye, by(ray, along + (behind ? half : -half)));
  return { way: by(minus(place, ball.centre), 1 / ball.radius), beyond: 0 };
}
