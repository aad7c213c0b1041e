import { useShallow } from "zustand/react/shallow";
import {
  ArrowLeft,
  ArrowRight,
  Blend,
  Download,
  Eye,
  EyeOff,
  FileUp,
  MousePointerClick,
  PenTool,
  Circle,
  X,
} from "lucide-react";
import { useState } from "react";
import { type Mask, answered, api } from "~/api/client";
import { useLive } from "~/api/events";
import { useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { complain } from "~/ui/Notices";
import { pickText } from "~/workspace/actions/files";
import { useFollowMask } from "~/workspace/actions/jobs";
import { mattesOf } from "~/workspace/actions/mattes";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { ShapeKey } from "~/workspace/details/ShapeKey";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { apply, invert, times } from "~/workspace/geometry";
import { drawnThrough, MASK_COLOURS, type Masked, useMasked } from "~/workspace/masks";
import { drawnKey, outlineAt } from "~/workspace/outline";
import { freshId, freshName } from "~/workspace/patches";
import { followable, groupsOf } from "~/workspace/kinds";
import { act, outlining, useWorkspace } from "~/workspace/store";

const SIGNS = { add: "+", subtract: "−", intersect: "∩", keep: "◆" };
const SAID = { add: "with", subtract: "off", intersect: "both", keep: "kept" };

/** The masks of the chosen layer or treatment: how many, how they go together, and the chosen one's settings. */
export function MaskGroup({ help }: { help: string }) {
  const masked = useMasked();
  const { shotId, record, edits } = useOpenShot();
  const { mask: chosen, frame } = useWorkspace(useShallow((w) => ({ mask: w.mask, frame: w.frame })));
  if (!masked) return null;
  const masks = masked.thing.masks;
  const selected = masks.find((m) => m.id === chosen) ?? (masks.length === 1 ? masks[0] : undefined);
  const draw = (shape: "free" | "ellipse" | "graded") =>
    act({ do: "tool", tool: outlining({ for: "mask", shape }) });
  const mattes = mattesOf(record.document);
  const byMatte = async () => {
    const matte = mattes.at(-1)!;
    const id = freshId("mask", masks);
    const colour = MASK_COLOURS[masks.length % MASK_COLOURS.length]!;
    // The server fills in what is not said here.
    const made = { kind: "picked", id, name: matte.name, colour, motion: matte.id } as unknown as Mask;
    if (await masked.edit(`Add ${matte.name} as a mask`, (now) => [...now, made])) act({ do: "mask", id });
  };
  const address = `/shots/${shotId}/masks/${masked.thing.id}`;
  return (
    <Group
      title={masked.list === "look" ? "Masks of this look" : "Masks"}
      side={
        <span className={masked.list === "look" ? "hidden" : "flex gap-2"}>
          <button
            className="text-ink-2 hover:text-tide"
            aria-label="Masks from an SVG file"
            title="Masks from an SVG file"
            onClick={() =>
              pickText(
                ".svg,image/svg+xml",
                (_name, text) =>
                  void edits.ask(() =>
                    api.POST("/api/shots/{shot_id}/masks/{thing_id}", {
                      params: { path: { shot_id: shotId, thing_id: masked.thing.id } },
                      body: { text, frame },
                    }),
                  ),
              )
            }
          >
            <FileUp className="size-4" />
          </button>
          {masks.some((m) => "outline" in m) && (
            <button
              className="text-ink-2 hover:text-tide"
              aria-label="Masks as an SVG file"
              title="Masks as an SVG file, as they are in this frame"
              onClick={() => {
                const a = document.createElement("a");
                a.href = `/api${address}?frame=${frame}&number=${record.number}`;
                a.download = "";
                a.click();
              }}
            >
              <Download className="size-4" />
            </button>
          )}
        </span>
      }
    >
      <ul>
        {masks.map((m, k) => (
          <li key={m.id} className="flex items-center gap-1.5 py-0.5 text-xs">
            <button
              className={`flex min-w-0 flex-1 items-center gap-2 rounded px-1 py-0.5 text-left ${m === selected ? "bg-plum-2" : "hover:bg-paper"}`}
              aria-pressed={m === selected}
              onClick={() => act({ do: "mask", id: m.id })}
            >
              <i
                aria-hidden
                className="size-3 shrink-0 rounded-[4px] border border-black/20"
                style={{ background: m.colour }}
              />
              <span className={`min-w-0 flex-1 truncate ${m.shown ? "" : "text-ink-3 line-through"}`}>
                {m.name}
              </span>
              <span className="num text-ink-2" title={k || m.mode !== "add" ? SAID[m.mode] : undefined}>
                {k || m.mode !== "add" ? `${SIGNS[m.mode]} ` : ""}
                {m.inverted ? "inv" : ""}
              </span>
            </button>
            <button
              className="text-ink-2 hover:text-ink"
              aria-label={m.shown ? `Turn ${m.name} off` : `Turn ${m.name} on`}
              onClick={() => setOne(masked, m, `${m.name} ${m.shown ? "off" : "on"}`, { shown: !m.shown })}
            >
              {m.shown ? <Eye className="size-3.5" /> : <EyeOff className="size-3.5" />}
            </button>
            <button
              className="text-ink-3 hover:text-brick"
              aria-label={`Remove ${m.name}`}
              onClick={() => void masked.edit(`Remove ${m.name}`, (now) => now.filter((o) => o.id !== m.id))}
            >
              <X className="size-3.5" />
            </button>
          </li>
        ))}
      </ul>
      {!masks.length && <p className="mb-1 text-xs text-ink-2">{help}</p>}
      <div className="mt-1 flex flex-wrap gap-1">
        <Button onClick={() => draw("free")} title="Drag a box, or click round it">
          <PenTool className="size-3.5" /> Draw
        </Button>
        <Button onClick={() => draw("ellipse")}>
          <Circle className="size-3.5" /> Ellipse
        </Button>
        <Button onClick={() => draw("graded")} title="Drag from where it is full to where it is gone">
          <Blend className="size-3.5" /> Graded
        </Button>
        {mattes.length > 0 && (
          <Button title="What a matte among the motions covers" onClick={() => void byMatte()}>
            <MousePointerClick className="size-3.5" /> Picked
          </Button>
        )}
      </div>
      {selected && <MaskRows masked={masked} mask={selected} />}
    </Group>
  );
}

const setOne = (masked: Masked, mask: Mask, label: string, values: object) =>
  void masked.edit(label, (now) => now.map((m) => (m.id === mask.id ? ({ ...m, ...values } as Mask) : m)));

function MaskRows({ masked, mask }: { masked: Masked; mask: Mask }) {
  const { record, edits, shotId } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const { data: kinds } = useKinds("mask");
  const kind = kinds?.find((k) => k.kind === mask.kind);
  // Only what is keyed can have something kept from its key.
  const keyed = masked.list === "stack" && "key" in masked.thing && Boolean(masked.thing.key);
  const shot = record.document;
  const steadied = shot.plate.some((t) => t.kind === "steady" || t.kind === "handheld");
  const names: Record<string, string> = {
    footage: "The footage",
    ...(steadied || mask.rides === "screen" ? { screen: "The screen" } : {}),
    ...(masked.owned || mask.rides === "own" ? { own: "The layer itself" } : {}),
  };
  for (const t of [...followable(shot), ...shot.perches]) names[`to:${t.id}`] = t.name;
  const ride = (rides: string) =>
    void masked.edit(`${mask.name} rides on ${names[rides] ?? ""}`, (now) =>
      now.map((m) => {
        if (m.id !== mask.id) return m;
        // It stays where it is in this frame, and rides from here on.
        const next = { ...m, rides, reference_frame: frame };
        const moved = times(invert(masked.space(next, frame)), masked.space(m, frame));
        return { ...next, ...drawnThrough(m, moved, frame) } as Mask;
      }),
    );
  return (
    <div className="mt-1.5 rounded-md bg-paper/60 px-2 py-1">
      <Row label="Name" wide>
        <input
          key={mask.name}
          aria-label="Name of the mask"
          defaultValue={mask.name}
          maxLength={120}
          className="h-[26px] w-full min-w-0 rounded-md border border-line bg-raise px-2 text-xs text-ink"
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          onBlur={(e) => {
            const name = e.target.value.trim();
            if (name && name !== mask.name) setOne(masked, mask, `Rename to ${name}`, { name });
            else e.target.value = mask.name;
          }}
        />
      </Row>
      {"motion" in mask ? (
        <Row label="Covers what" help="The matte among the motions" wide>
          <Choice
            label={`The matte of ${mask.name}`}
            value={mask.motion}
            names={Object.fromEntries(mattesOf(shot).map((m) => [m.id, m.name]))}
            onChange={(motion) => setOne(masked, mask, `${mask.name} by another matte`, { motion })}
          />
        </Row>
      ) : (
        <Row label="Rides on" wide>
          <Choice label={`What ${mask.name} rides on`} value={mask.rides} names={names} onChange={ride} />
        </Row>
      )}
      {"outline" in mask && (
        <ShapeKey
          name={mask.name}
          outline={mask.outline}
          onChange={(change) =>
            void masked.edit(`Key ${mask.name}`, (now) =>
              now.map((m) => (m.id === mask.id && "outline" in m ? { ...m, outline: change(m.outline) } : m)),
            )
          }
        />
      )}
      {"motion" in mask && masked.list !== "look" && (
        <Row
          label="Its outline"
          help="Draws an outline round what it covers in this frame, with points to drag, that can follow what it shows. This mask is turned off."
          wide
        >
          <button
            className="justify-self-start font-semibold text-tide"
            onClick={() =>
              void edits.ask(() =>
                api.POST("/api/shots/{shot_id}/masks/{thing_id}/{mask_id}/outline", {
                  params: { path: { shot_id: shotId, thing_id: masked.thing.id, mask_id: mask.id } },
                  body: { frame },
                }),
              )
            }
          >
            Draw round it
          </button>
        </Row>
      )}
      {"outline" in mask && masked.list !== "look" && <FollowRow masked={masked} mask={mask} />}
      {"outline" in mask && masked.list === "plate" && <MoreLikeIt masked={masked} mask={mask} />}
      {kind && (
        <SchemaForm
          schema={kind.schema}
          groups={groupsOf(kind, mask)}
          bare
          leaveOptionsOut={keyed || mask.mode === "keep" ? [] : ["keep"]}
          values={mask as unknown as Record<string, unknown>}
          onChange={(field, value, label) =>
            setOne(masked, mask, `${label} of ${mask.name}`, { [field]: value })
          }
        />
      )}
      {"outline" in mask && (
        <p className="text-[11px] leading-snug text-ink-3">
          Drag points; pull a diamond to feather a point (Shift: all); small dots add a point; Ctrl-drag
          bends, double click makes a corner, Delete removes.
        </p>
      )}
    </div>
  );
}

const ONE_WAY = [
  { way: "back", label: "Follow it back from here", Icon: ArrowLeft },
  { way: "on", label: "Follow it on from here", Icon: ArrowRight },
] as const;

/** Bending an outline with what it shows: from the drawn shapes, both ways, or one way from here. */
function FollowRow({ masked, mask }: { masked: Masked; mask: Mask & { kind: "outline" } }) {
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
  const go = (way: "both" | "on" | "back") => void follow(masked.thing.id, mask.id, frame, way);
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
function MoreLikeIt({ masked, mask }: { masked: Masked; mask: Mask & { kind: "outline" } }) {
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
            path: { shot_id: shotId, thing_id: masked.thing.id, mask_id: mask.id },
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
