import { Check, ChevronDown } from "lucide-react";
import { Select } from "radix-ui";

/** A list of named options. */
export function Choice({
  label,
  value,
  names,
  onChange,
}: {
  label: string;
  value: string;
  names: Record<string, string>;
  onChange: (value: string) => void;
}) {
  return (
    <Select.Root value={value} onValueChange={onChange}>
      <Select.Trigger
        aria-label={label}
        className="flex h-[26px] w-full min-w-0 items-center justify-between gap-1 rounded-md border border-line bg-raise px-2 text-xs text-ink hover:border-ink-3"
      >
        <span className="truncate">
          <Select.Value />
        </span>
        <ChevronDown className="size-3.5 shrink-0 text-ink-3" aria-hidden />
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-50 max-h-72 min-w-[var(--radix-select-trigger-width)] overflow-hidden rounded-lg border border-line bg-raise p-1 shadow-xl"
        >
          <Select.Viewport>
            {Object.entries(names).map(([key, name]) => (
              <Select.Item
                key={key}
                value={key}
                className="flex cursor-pointer items-center gap-2 rounded-md py-1 pr-3 pl-6 text-xs outline-none data-[highlighted]:bg-tide-2 relative"
              >
                <Select.ItemIndicator className="absolute left-1.5">
                  <Check className="size-3.5 text-tide" aria-hidden />
                </Select.ItemIndicator>
                <Select.ItemText>{name}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
