import { DropdownMenu } from "radix-ui";
import { post } from "~/api/client";
import { complain } from "~/ui/Notices";
import { pickText } from "~/workspace/actions/files";
import { useOpenShot } from "~/workspace/context";
import { act } from "~/workspace/store";

/** What kind of movement to follow. */
export function FollowMenu({ disabled }: { disabled: boolean }) {
  const { shotId } = useOpenShot();
  const start = (tool: "add-point" | "outline") => {
    act({ do: "choose", chosen: { kind: "none" } });
    act({ do: "tool", tool });
  };
  const rows: { label: string; hint: string; run: () => void }[] = [
    { label: "A surface", hint: "outline it; things tilt with it", run: () => start("outline") },
    { label: "A detail", hint: "click on it; one or more points", run: () => start("add-point") },
    {
      label: "What would be good?",
      hint: "a look at the clip",
      run: () => act({ do: "open", what: "advice", on: true }),
    },
    {
      label: "From a file …",
      hint: "points, plane or corners",
      run: () =>
        pickText(".csv,.json", (name, text) => {
          post(`/shots/${shotId}/motions/import`, { name, text }).catch((e: Error) => complain(e.message));
        }),
    },
  ];
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        disabled={disabled}
        className="rounded px-1 font-semibold text-tide disabled:opacity-40"
      >
        Follow
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-50 w-64 rounded-lg border border-line bg-raise p-1 shadow-xl"
        >
          {rows.map((r) => (
            <DropdownMenu.Item
              key={r.label}
              className="cursor-pointer rounded-md px-2.5 py-1.5 outline-none data-[highlighted]:bg-tide-2"
              onSelect={r.run}
            >
              <b className="block font-semibold">{r.label}</b>
              <span className="text-xs text-ink-2">{r.hint}</span>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
