import { X } from "lucide-react";
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
    if (!n.bad) setTimeout(() => set((s) => ({ list: s.list.filter((o) => o.id !== id) })), 5000);
  },
  drop: (id) => set((s) => ({ list: s.list.filter((n) => n.id !== id) })),
}));

/** Say that something went wrong; stays until dismissed. */
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
      className="fixed top-14 left-1/2 z-50 flex max-w-lg -translate-x-1/2 flex-col gap-2"
    >
      {list.map((n) => (
        <div
          key={n.id}
          className={`flex items-start gap-3 rounded-lg border px-3 py-2.5 shadow-lg ${n.bad ? "border-brick/50 bg-brick-2 text-brick" : "border-line bg-raise"}`}
        >
          <span className="flex-1">
            {n.text}
            {n.action && (
              <button
                className="ml-2 font-semibold underline"
                onClick={() => {
                  n.action?.run();
                  drop(n.id);
                }}
              >
                {n.action.label}
              </button>
            )}
          </span>
          <button aria-label="Dismiss" onClick={() => drop(n.id)}>
            <X className="size-4" />
          </button>
        </div>
      ))}
    </div>
  );
}
