import { X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { create } from "zustand";

interface Notice {
  id: number;
  text: string;
  action?: { label: string; run: () => void };
  bad: boolean;
}

interface NoticeState {
  list: Notice[];
  add: (n: Omit<Notice, "id">) => void;
  drop: (id: number) => void;
}

let next = 1;

export const useNotices = create<NoticeState>((set) => ({
  list: [],
  add: (n) => {
    const id = next++;
    set((s) => ({ list: [...s.list.filter((o) => o.text !== n.text), { ...n, id }].slice(-3) }));
  },
  drop: (id) => set((s) => ({ list: s.list.filter((n) => n.id !== id) })),
}));

/** How long a notice stays while nobody points at it, in milliseconds. */
const STAYS_MS = { bad: 14_000, passing: 5_000 };

/** Say that something went wrong; it stays long enough to be read, and while the pointer or the keyboard is on it. */
export const complain = (text: string, action?: Notice["action"]) =>
  useNotices.getState().add(action ? { text, action, bad: true } : { text, bad: true });
/** Say something in passing. */
export const mention = (text: string) => useNotices.getState().add({ text, bad: false });

export function Notices() {
  const { list, drop } = useNotices();
  return (
    <div
      role="status"
      aria-live="polite"
      className="pointer-events-none fixed right-3 bottom-3 z-50 flex w-80 flex-col gap-2"
    >
      {list.map((n) => (
        <NoticeCard key={n.id} notice={n} drop={() => drop(n.id)} />
      ))}
    </div>
  );
}

function NoticeCard({ notice: n, drop }: { notice: Notice; drop: () => void }) {
  const [held, setHeld] = useState(false);
  const latest = useRef(drop);
  useEffect(() => {
    latest.current = drop;
  });
  useEffect(() => {
    if (held) return;
    const timer = setTimeout(() => latest.current(), n.bad ? STAYS_MS.bad : STAYS_MS.passing);
    return () => clearTimeout(timer);
  }, [held, n.bad]);
  return (
    <div
      className={`pointer-events-auto flex items-start gap-3 rounded-lg border px-3 py-2.5 shadow-lg ${n.bad ? "border-brick/50 bg-brick-2 text-brick" : "border-line bg-raise"}`}
      onPointerEnter={() => setHeld(true)}
      onPointerLeave={() => setHeld(false)}
      onFocus={() => setHeld(true)}
      onBlur={() => setHeld(false)}
    >
      <span className="min-w-0 flex-1 break-words">
        {n.text}
        {n.action && (
          <button
            className="ml-2 font-semibold underline"
            onClick={() => {
              n.action?.run();
              drop();
            }}
          >
            {n.action.label}
          </button>
        )}
      </span>
      <button aria-label="Dismiss" onClick={drop}>
        <X className="size-4" />
      </button>
    </div>
  );
}
