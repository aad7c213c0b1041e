import { Slider as Radix } from "radix-ui";

/** One value on a track: previewed while it is dragged, committed when let go. Arrow keys step it, Page keys by ten. */
export function Slider({
  label,
  value,
  low,
  high,
  step = 1,
  keyed = false,
  onPreview,
  onCommit,
}: {
  label: string;
  value: number;
  low: number;
  high: number;
  step?: number;
  /** Whether keys move the value, which is shown by its colour. */
  keyed?: boolean;
  onPreview: (value: number) => void;
  onCommit?: (value: number) => void;
}) {
  return (
    <Radix.Root
      min={low}
      max={high}
      step={step}
      value={[Math.min(high, Math.max(low, value))]}
      onValueChange={([v]) => v !== undefined && onPreview(v)}
      onValueCommit={([v]) => v !== undefined && onCommit?.(v)}
      className="relative flex h-5 min-w-0 flex-1 items-center"
    >
      <Radix.Track className="h-1 flex-1 rounded bg-line">
        <Radix.Range className={`absolute h-1 rounded ${keyed ? "bg-saffron-bar" : "bg-tide"}`} />
      </Radix.Track>
      <Radix.Thumb
        aria-label={label}
        className={`block size-[13px] rounded-full border-2 bg-white ${keyed ? "border-saffron-bar" : "border-tide"}`}
      />
    </Radix.Root>
  );
}
