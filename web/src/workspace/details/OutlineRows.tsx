import { ArrowLeft, ArrowRight } from "lucide-react";
import { useState } from "react";
import { type Mask, answered, api } from "~/api/client";
import { useLive } from "~/api/events";
import { complain } from "~/ui/Notices";
import { useFollowMask } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { Row } from "~/workspace/details/Group";
import { apply, invert, times } from "~/workspace/geometry";
import { drawnThrough, type Masked } from "~/workspace/masks";
import { drawnKey, outlineAt } from "~/workspace/outline";
import { freshId, freshName } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";

const ONE_WAY = [
  { way: "back", label: "Follow it back from here", Icon: ArrowLeft },
  { way: "on", label: "Follow it on from here", Icon: ArrowRight },
] as const;

/** Bending an outline with what it shows: from the drawn shapes, both ways, or one way from here. */
export function FollowRow({ masked, mask }: { masked: Masked; mask: Mask & { kind: "outline" } }) {
  const { shotId } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const follow = useFollowMask();
  const busy = useLive((s) =>
    Object.values(s.jobs).some(
      (j) => j.kind === "follow" && j.shot === shotId && ["queued", "running", "stopping"].includes(j.state),
    ),
  );
  const rides = mask.rides === "footage" || mask.rides.startsWith("to:");
  const followed = mask.outline.keys.some((k) => k.followed);
  const go = (way: "both" | "on" | "back") => void follow(masked.address, mask.id, frame, way);
  const forget = () =>
    void masked.edit(`Forget where ${mask.name} was followed`, (now) =>
      now.map((m) =>
        m.id === mask.id && "outline" in m
          ? { ...m, outline: { keys: m.outline.keys.filter((k) => !k.followed) } }
          : m,
      ),
    );
  return (
    <Row
      label="Follow"
      help="The outline bends with what it shows, in all frames. Where it is off, drag its points and follow again: drawn shapes stay."
      wide
    >
      {rides ? (
        <span className="flex flex-wrap items-center gap-x-2 gap-y-1">
          <button
            className="font-semibold text-tide disabled:opacity-50"
            disabled={busy}
            onClick={() => go("both")}
          >
            {busy ? "Following …" : followed ? "Follow again" : "Follow what it shows"}
          </button>
          <span className="flex gap-2">
            {ONE_WAY.map(({ way, label, Icon }) => (
              <button
                key={way}
                aria-label={label}
                title={label}
                className="text-ink-2 hover:text-tide disabled:opacity-50"
                disabled={busy}
                onClick={() => go(way)}
              >
                <Icon className="size-3.5" />
              </button>
            ))}
          </span>
          {followed && (
            <button className="text-ink-2 hover:text-brick" disabled={busy} onClick={forget}>
              Forget
            </button>
          )}
        </span>
      ) : (
        <span className="text-ink-3">It lies on no part of the footage</span>
      )}
    </Row>
  );
}

/** Further marks from this example: each found one becomes a mask that rides as this one does. */
export function MoreLikeIt({ masked, mask }: { masked: Masked; mask: Mask & { kind: "outline" } }) {
  const { shotId } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const [looking, setLooking] = useState(false);
  const [told, setTold] = useState("");
  const look = async () => {
    setLooking(true);
    setTold("");
    // It stays the chosen one when it is no longer the only one.
    act({ do: "mask", id: mask.id });
    try {
      const found = await answered(
        api.GET("/api/shots/{shot_id}/masks/{thing_id}/{mask_id}/alike", {
          params: {
            path: { shot_id: shotId, thing_id: masked.address, mask_id: mask.id },
            query: { frame },
          },
        }),
      );
      let added = 0;
      await masked.edit(`More like ${mask.name}`, (now) => {
        const example = now.find((m) => m.id === mask.id);
        if (!example || !("outline" in example)) return now;
        const space = masked.space(example, frame);
        const centre = (points: { x: number; y: number }[]) => ({
          x: points.reduce((s, p) => s + p.x, 0) / points.length,
          y: points.reduce((s, p) => s + p.y, 0) / points.length,
        });
        const middle = apply(space, centre(outlineAt(example.outline, frame)));
        const out = [...now];
        const there = now.flatMap((m) =>
          "outline" in m ? [apply(masked.space(m, frame), centre(outlineAt(m.outline, frame)))] : [],
        );
        for (const one of found) {
          const at = apply(one.matrix, middle);
          // What has a mask already keeps it.
          if (there.some((p) => Math.hypot(p.x - at.x, p.y - at.y) < 8)) continue;
          const points = outlineAt(example.outline, frame);
          const fresh = {
            ...example,
            id: freshId("mask", out),
            name: freshName(mask.name, out),
            reference_frame: frame,
            outline: { keys: [drawnKey(frame, points)] },
          };
          const into = times(invert(masked.space(fresh, frame)), times(one.matrix, space));
          out.push({ ...fresh, ...drawnThrough(fresh, into, frame) } as Mask);
          added += 1;
        }
        return out;
      });
      setTold(added ? `${added} found and added.` : "No other one was found in this frame.");
    } catch (error) {
      complain(error instanceof Error ? error.message : String(error));
    } finally {
      setLooking(false);
    }
  };
  return (
    <Row label="More of it" help="Looks for things in this frame that look like what this mask shows" wide>
      <span className="flex items-center gap-2">
        <button
          className="font-semibold text-tide disabled:opacity-50"
          disabled={looking}
          onClick={() => void look()}
        >
          {looking ? "Looking …" : "Find things like this"}
        </button>
        <span role="status">{told}</span>
      </span>
    </Row>
  );
}
