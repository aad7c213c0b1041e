import { useShallow } from "zustand/react/shallow";
import { Blend, Eye, EyeOff, FileUp, MousePointerClick, PenTool, Circle, X } from "lucide-react";
import { type Mask, api } from "~/api/client";
import { useKinds } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { pickText } from "~/workspace/actions/files";
import { mattesOf } from "~/workspace/actions/mattes";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { KeyRows } from "~/workspace/details/KeyGroup";
import { MasksOut } from "~/workspace/details/MasksOut";
import { ShapeKey } from "~/workspace/details/ShapeKey";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { invert, times } from "~/workspace/geometry";
import { drawnThrough, MASK_COLOURS, type Masked, useMasked } from "~/workspace/masks";
import { freshId } from "~/workspace/patches";
import { followable, groupsOf } from "~/workspace/kinds";
import { act, outlining, useWorkspace } from "~/workspace/store";
import { FollowRow, MoreLikeIt } from "~/workspace/details/OutlineRows";

const SIGNS = { add: "+", subtract: "−", intersect: "∩", keep: "◆" };
const SAID = { add: "with", subtract: "off", intersect: "both", keep: "kept" };

/** The masks of the chosen layer or treatment: how many, how they go together, and the chosen one's settings. */
export function MaskGroup({ help }: { help: string }) {
  const masked = useMasked();
  const { shotId, record, edits } = useOpenShot();
  const { chosen, too, frame } = useWorkspace(
    useShallow((w) => ({ chosen: w.mask, too: w.masksToo, frame: w.frame })),
  );
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
  return (
    <Group
      title={masked.list === "look" ? "Masks of this look" : "Masks"}
      side={
        <span className="flex gap-2">
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
                      params: { path: { shot_id: shotId, thing_id: masked.address } },
                      body: { text, frame },
                    }),
                  ),
              )
            }
          >
            <FileUp className="size-4" />
          </button>
          {masks.length > 0 && (
            <MasksOut address={masked.address} drawn={masks.some((m) => "outline" in m)} />
          )}
        </span>
      }
    >
      <ul>
        {masks.map((m, k) => (
          <li key={m.id} className="flex items-center gap-1.5 py-0.5 text-xs">
            <button
              className={`flex min-w-0 flex-1 items-center gap-2 rounded px-1 py-0.5 text-left ${m === selected ? "bg-plum-2" : too.includes(m.id) ? "bg-plum-2/50" : "hover:bg-paper"}`}
              aria-pressed={m === selected || too.includes(m.id)}
              title={masks.length > 1 ? "Shift-click to move it along with the chosen one" : undefined}
              onClick={(e) => act({ do: "mask", id: m.id, add: e.shiftKey })}
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
      {"motion" in mask && (
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
                  params: { path: { shot_id: shotId, thing_id: masked.address, mask_id: mask.id } },
                  body: { frame },
                }),
              )
            }
          >
            Draw round it
          </button>
        </Row>
      )}
      {"outline" in mask && <FollowRow masked={masked} mask={mask} />}
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
      {keyed && mask.mode === "keep" && (
        <KeyRows
          keyed={mask.key}
          whose={mask.name}
          mask={mask.id}
          leaveOut={["matte", "strokes"]}
          onChoose={(kind) =>
            setOne(masked, mask, kind ? `Key ${mask.name}` : `No key in ${mask.name}`, {
              key: kind ? { kind } : null,
            })
          }
          onSet={(label, values) =>
            void masked.edit(label, (now) =>
              now.map((m) => (m.id === mask.id ? ({ ...m, key: { ...m.key, ...values } } as Mask) : m)),
            )
          }
        />
      )}
      {"outline" in mask && (
        <p className="text-[11px] leading-snug text-ink-3">
          Drag points; pull a diamond to feather a point (Shift: all); small dots add a point; Ctrl-drag
          bends, double click makes a corner, Delete removes. The square moves all of it, with masks that are
          Shift-clicked beside it.
        </p>
      )}
    </div>
  );
}
