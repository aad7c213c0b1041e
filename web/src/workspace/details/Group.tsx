import type { ReactNode } from "react";

export function Title({
  title,
  sub,
  onRename,
}: {
  title: string;
  sub: ReactNode;
  onRename?: (name: string) => void;
}) {
  return (
    <div className="mb-2">
      {onRename ? (
        <input
          key={title}
          aria-label="Name"
          defaultValue={title}
          maxLength={120}
          className="w-full rounded border border-transparent bg-transparent text-[15px] font-bold hover:border-line focus:border-line focus:bg-raise"
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          onBlur={(e) => {
            const name = e.target.value.trim();
            if (name && name !== title) onRename(name);
            else e.target.value = title;
          }}
        />
      ) : (
        <h2 className="text-[15px] font-bold">{title}</h2>
      )}
      <p className="text-xs text-ink-2">{sub}</p>
    </div>
  );
}

export function Group({ title, side, children }: { title: string; side?: ReactNode; children: ReactNode }) {
  return (
    <section className="border-t border-line py-2">
      <h3 className="mb-1.5 flex items-center justify-between text-xs font-bold">
        {title}
        {side}
      </h3>
      {children}
    </section>
  );
}

export function Row({
  label,
  help,
  children,
  wide,
}: {
  label: ReactNode;
  help?: string;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <div
      className={`my-1 grid ${wide ? "grid-cols-[84px_1fr]" : "grid-cols-[84px_1fr_78px_22px]"} items-center gap-2 text-xs text-ink-2`}
      title={help}
    >
      <span className="truncate">{label}</span>
      {children}
    </div>
  );
}
