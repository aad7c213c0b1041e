import { useCallback } from "react";
import { useOpenShot } from "~/workspace/context";
import { isOutlined, type Outlined, useMasked } from "~/workspace/masks";
import { useWorkspace } from "~/workspace/store";
import { clipFrame } from "~/workspace/time";
import { type Draw, Lane } from "~/workspace/timestrip/Lane";
import { type Scale, xOf } from "~/workspace/timestrip/scale";

/** Its height in the strip. */
export const FOLLOWED = 24;
/** Below this share of its inside that looks as drawn, an outline wants to be looked at. */
const DOUBTED = 0.45;

/** The chosen mask, if its outline was followed. */
export function useFollowed(): Outlined | null {
  const masked = useMasked();
  const chosen = useWorkspace((s) => s.mask);
  const masks = masked?.thing.masks ?? [];
  const mask = masks.find((m) => m.id === chosen) ?? (masks.length === 1 ? masks[0] : undefined);
  return mask && isOutlined(mask) && mask.outline.keys.some((k) => k.followed) ? mask : null;
}

/** How well an outline was followed: height is trust, doubted frames are bricks, drawn shapes stand out. */
export function FollowedLane({ mask, scale }: { mask: Outlined; scale: Scale }) {
  const { record } = useOpenShot();
  const footage = record.document.footage;
  const keys = mask.outline.keys;
  const draw = useCallback<Draw>(
    (context, colour) => {
      const step = (scale.width - 20) / scale.frames;
      const bar = Math.max(1, step);
      context.globalAlpha = 0.72;
      for (let f = 0; f < scale.frames; f++) {
        const trust = trustAt(keys, clipFrame(footage, f));
        if (trust === null) continue;
        const h = 3 + trust * (FOLLOWED - 7);
        context.fillStyle = colour(trust < DOUBTED ? "--brick" : "--plum");
        context.fillRect(xOf(scale, f) - step / 2, FOLLOWED - h, bar, h);
      }
      context.globalAlpha = 1;
      context.fillStyle = colour("--saffron-bar");
      for (let f = 0; f < scale.frames; f++)
        if (keys.some((k) => !k.followed && k.frame === clipFrame(footage, f)))
          context.fillRect(xOf(scale, f) - 3, 3, 6, FOLLOWED - 3);
    },
    [keys, scale, footage],
  );
  return <Lane height={FOLLOWED} label={`How ${mask.name} was followed`} scale={scale} draw={draw} />;
}

/** Trust of the shape that is seen at a frame of the clip: that of the nearest followed key; null where it was not followed. */
function trustAt(keys: Outlined["outline"]["keys"], frame: number): number | null {
  const followed = keys.filter((k) => k.followed);
  if (!followed.length || frame < keys[0]!.frame || frame > keys.at(-1)!.frame) return null;
  const nearest = followed.reduce((a, b) => (Math.abs(b.frame - frame) < Math.abs(a.frame - frame) ? b : a));
  return nearest.trust ?? 1;
}
