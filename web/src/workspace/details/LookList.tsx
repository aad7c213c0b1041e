import { useShallow } from "zustand/react/shallow";
import { ChevronDown, ChevronUp, Eye, EyeOff, X } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import type { Look } from "~/api/client";
import { useKinds } from "~/api/queries";
import { Group } from "~/workspace/details/Group";
import { MaskGroup } from "~/workspace/details/MaskGroup";
import { RidesRow } from "~/workspace/details/RidesRow";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { freshId, freshName } from "~/workspace/patches";
import { Points } from "~/workspace/details/Points";
import { Wheels } from "~/workspace/details/Wheels";
import { copyLooks, useCopied } from "~/workspace/looks";
import { groupsOf } from "~/workspace/kinds";
import { useCameras } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";

interface Props {
  looks: Look[];
  title: string;
  help: string;
  /** Whether there is a picture of its own that a look may ride on. */
  owned?: boolean;
  /** Whose looks they are; null: the whole picture's. */
  layer: string | null;
  /** Change the looks as they stand when the edit's turn comes. */
  edit: (label: string, change: (now: Look[]) => Look[]) => void;
}

/** Looks in their order: each can be turned off, moved, opened and removed. */
export function LookList({ looks, title, help, owned = false, layer, edit }: Props) {
  const { data: kinds } = useKinds("look");
  const { look: open, lookMasks } = useWorkspace(
    useShallow((w) => ({ look: w.look, lookMasks: w.lookMasks })),
  );
  const setOpen = (id: string) => act({ do: "look", id });
  const solved = [...useCameras().values()].some((camera) => camera.full);
  const selected = open ?? (looks.length === 1 ? looks[0]!.id : null);
  const one = (id: string, label: string, values: object) =>
    edit(label, (now) => now.map((l) => (l.id === id ? ({ ...l, ...values } as Look) : l)));
  const move = (id: string, by: number) =>
    edit("Move a look", (now) => {
      const at = now.findIndex((l) => l.id === id);
      const to = at + by;
      if (at < 0 || to < 0 || to >= now.length) return now;
      const next = [...now];
      next.splice(to, 0, ...next.splice(at, 1));
      return next;
    });
  const add = (kind: string, label: string) => {
    const id = freshId("look", looks);
    // The server fills in what is not said here.
    edit(`Add ${label}`, (now) => [
      ...now,
      { kind, id: freshId("look", now), name: freshName(label, now) } as unknown as Look,
    ]);
    setOpen(id);
  };
  const copied = useCopied();
  const paste = () =>
    edit("Put copied looks on", (now) =>
      copied.reduce<Look[]>(
        (all, look) => [...all, { ...look, id: freshId("look", all), name: freshName(look.name, all) }],
        now,
      ),
    );
  return (
    <Group
      title={title}
      side={
        <span className="flex items-center gap-1">
          {looks.length > 0 && (
            <button
              className="rounded px-1 text-xs text-ink-2 hover:text-ink"
              title="Copy these looks, to put them on another layer or shot; masks stay behind"
              onClick={() => copyLooks(looks)}
            >
              Copy
            </button>
          )}
          {copied.length > 0 && (
            <button
              className="rounded px-1 text-xs text-ink-2 hover:text-ink"
              title={`Put on: ${copied.map((l) => l.name).join(", ")}`}
              onClick={paste}
            >
              Put on
            </button>
          )}
          <DropdownMenu.Root>
            <DropdownMenu.Trigger
              className="rounded px-1 font-semibold text-tide"
              aria-label={`Add to ${title}`}
            >
              Add
            </DropdownMenu.Trigger>
            <DropdownMenu.Portal>
              <DropdownMenu.Content
                align="end"
                sideOffset={4}
                className="z-50 max-h-[70vh] w-64 overflow-y-auto rounded-lg border border-line bg-raise p-1 shadow-xl"
              >
                {kinds?.map((k) => (
                  <DropdownMenu.Item
                    key={k.kind}
                    className="cursor-pointer rounded-md px-2.5 py-1.5 outline-none data-[highlighted]:bg-tide-2"
                    onSelect={() => add(k.kind, k.label)}
                  >
                    <b className="block font-semibold">{k.label}</b>
                    <span className="text-xs text-ink-2">{k.help}</span>
                  </DropdownMenu.Item>
                ))}
              </DropdownMenu.Content>
            </DropdownMenu.Portal>
          </DropdownMenu.Root>
        </span>
      }
    >
      {!looks.length && <p className="text-xs text-ink-2">{help}</p>}
      <ul>
        {looks.map((l, at) => {
          const kind = kinds?.find((k) => k.kind === l.kind);
          const groups = groupsOf(kind, l);
          const on = l.id === selected;
          return (
            <li key={l.id} className={on ? "mb-1 rounded-md bg-paper/60 px-1.5 pb-1" : ""}>
              <div className="flex items-center gap-1.5 py-0.5 text-xs">
                <button
                  className={`min-w-0 flex-1 truncate rounded px-1 py-0.5 text-left font-semibold ${l.shown ? "" : "text-ink-3 line-through"}`}
                  aria-expanded={on}
                  onClick={() => setOpen(on ? "" : l.id)}
                >
                  {l.name}
                </button>
                <button
                  className="text-ink-3 hover:text-ink disabled:opacity-25"
                  aria-label={`${l.name} earlier`}
                  disabled={at === 0}
                  onClick={() => move(l.id, -1)}
                >
                  <ChevronUp className="size-3.5" />
                </button>
                <button
                  className="text-ink-3 hover:text-ink disabled:opacity-25"
                  aria-label={`${l.name} later`}
                  disabled={at === looks.length - 1}
                  onClick={() => move(l.id, 1)}
                >
                  <ChevronDown className="size-3.5" />
                </button>
                <button
                  className="text-ink-2 hover:text-ink"
                  aria-label={l.shown ? `Turn ${l.name} off` : `Turn ${l.name} on`}
                  onClick={() => one(l.id, `${l.name} ${l.shown ? "off" : "on"}`, { shown: !l.shown })}
                >
                  {l.shown ? <Eye className="size-3.5" /> : <EyeOff className="size-3.5" />}
                </button>
                <button
                  className="text-ink-3 hover:text-brick"
                  aria-label={`Remove ${l.name}`}
                  onClick={() => edit(`Remove ${l.name}`, (now) => now.filter((o) => o.id !== l.id))}
                >
                  <X className="size-3.5" />
                </button>
              </div>
              {on && l.kind === "grain" && l.profile && (
                <p className="my-1 flex items-center gap-2 text-xs text-ink-2">
                  <span className="flex-1">
                    As measured on the plate:{" "}
                    <span className="num">
                      {(l.profile.strength.reduce((s, v) => s + v[1], 0) / 7).toFixed(1)}
                    </span>{" "}
                    codes
                  </span>
                  <button
                    className="font-semibold text-tide"
                    onClick={() => one(l.id, `${l.name} by hand`, { profile: null })}
                  >
                    By hand
                  </button>
                </p>
              )}
              {on && "rides" in l && (
                <RidesRow
                  label="Stays on"
                  value={l.rides}
                  own={owned}
                  onChange={(rides, reference_frame) =>
                    one(l.id, `${l.name} stays elsewhere`, { rides, reference_frame })
                  }
                />
              )}
              {on && l.kind === "haze" && l.goes === "room" && !solved && (
                <p className="my-1 text-xs text-brick">
                  No camera is solved in this shot, so there is no room to go into: nothing is laid on.
                </p>
              )}
              {on && l.kind === "lift" && (
                <Wheels look={l} set={(label, values) => one(l.id, `${label} of ${l.name}`, values)} />
              )}
              {on && <Points look={l} layer={layer} />}
              {on && kind && (
                <SchemaForm
                  schema={kind.schema}
                  groups={[...groups.filter((g) => g !== "Where"), "Where"]}
                  bare
                  values={l as unknown as Record<string, unknown>}
                  onChange={(field, value, label) => one(l.id, `${label} of ${l.name}`, { [field]: value })}
                />
              )}
              {on && (
                <button
                  className="my-1 text-xs font-semibold text-plum"
                  aria-expanded={lookMasks}
                  onClick={() => {
                    setOpen(l.id);
                    act({ do: "lookMasks", on: !lookMasks });
                  }}
                >
                  {lookMasks
                    ? "Done with its masks"
                    : l.masks.length
                      ? `Its masks (${l.masks.length})`
                      : "Only in a part: masks"}
                </button>
              )}
              {on && lookMasks && <MaskGroup help="A mask limits this look: it is seen inside." />}
            </li>
          );
        })}
      </ul>
    </Group>
  );
}
