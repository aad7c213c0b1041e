import { DropdownMenu } from "radix-ui";

/** The verb beside a section's title, with what can be begun there. */
export function VerbMenu({
  verb,
  disabled,
  rows,
}: {
  verb: string;
  disabled: boolean;
  rows: { label: string; hint: string; run: () => void }[];
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        disabled={disabled}
        className="rounded px-1 font-semibold text-tide disabled:opacity-40"
      >
        {verb}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className={`z-50 max-h-[var(--radix-dropdown-menu-content-available-height)] overflow-y-auto rounded-lg border border-line bg-raise p-1 shadow-xl ${rows.length > 10 ? "w-96" : "w-64"}`}
        >
          {rows.map((r) => (
            <DropdownMenu.Item
              key={r.label}
              className="cursor-pointer rounded-md px-2.5 py-1 outline-none data-[highlighted]:bg-tide-2"
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
