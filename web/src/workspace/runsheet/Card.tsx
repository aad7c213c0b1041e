import type { ReactNode } from "react";

export function Section({
  number,
  title,
  note,
  verb,
  onVerb,
  disabled,
  children,
}: {
  number: number;
  title: string;
  note?: string;
  verb?: string;
  onVerb?: () => void;
  disabled?: boolean;
  children?: ReactNode;
}) {
  return (
    <h2 className="mt-2.5 mb-1.5 flex items-center gap-2 text-[12.5px] font-semibold">
      <i className="num grid size-[18px] place-items-center rounded-full bg-ink text-paper not-italic">
        {number}
      </i>
      {title}
      {note && <small className="font-normal text-ink-3">{note}</small>}
      <span className="flex-1 border-b border-dashed border-ink-3/50" />
      {verb && (
        <button
          className="rounded px-1 font-semibold text-tide disabled:opacity-40"
          disabled={disabled}
          onClick={onVerb}
        >
          {verb}
        </button>
      )}
      {children}
    </h2>
  );
}

export const Hint = ({ children }: { children: ReactNode }) => (
  <p className="mb-1 px-1 text-xs leading-snug text-ink-2">{children}</p>
);

export function Card({
  on,
  onChoose,
  picture,
  name,
  line,
  side,
  faded,
}: {
  on: boolean;
  onChoose: () => void;
  picture: ReactNode;
  name: string;
  line: ReactNode;
  side?: ReactNode;
  faded?: boolean;
}) {
  return (
    <div
      className={`mb-1 flex items-center gap-2 rounded-lg border py-[5px] pr-2 pl-[5px] ${on ? "border-tide bg-raise shadow-[inset_3px_0_0_var(--tide)]" : "border-line bg-sheet hover:border-ink-3"} ${faded ? "opacity-60" : ""}`}
    >
      <button
        className="flex min-w-0 flex-1 items-center gap-2 text-left"
        aria-pressed={on}
        onClick={onChoose}
      >
        <span className="grid h-7 w-[42px] shrink-0 place-items-center overflow-hidden rounded-[5px] bg-well-2">
          {picture}
        </span>
        <span className="min-w-0">
          <b className="block truncate text-[12.5px] leading-tight font-semibold">{name}</b>
          <small className="flex items-center gap-1.5 text-[11px] whitespace-nowrap text-ink-2">{line}</small>
        </span>
      </button>
      {side}
    </div>
  );
}

export function Chip({ children, bad }: { children: ReactNode; bad?: boolean }) {
  return (
    <span
      className={`max-w-[112px] truncate rounded-full px-1.5 text-[10.5px] font-semibold ${bad ? "bg-brick-2 text-brick" : "bg-tide-2 text-tide"}`}
    >
      {children}
    </span>
  );
}
