import { Moon, Sun } from "lucide-react";
import type { ReactNode } from "react";
import { Link, useLocation } from "wouter";
import mark from "~/app/mark.svg";
import { useTheme } from "~/app/theme";
import { Button } from "~/ui/Button";

const PAGES = [
  { to: "/", label: "Projects" },
  { to: "/shelf", label: "Shelf" },
  { to: "/deliveries", label: "Deliveries" },
];

/** The frame of the pages around the workspace. */
export function PageFrame({
  title,
  actions,
  children,
}: {
  title: string;
  actions?: ReactNode;
  children: ReactNode;
}) {
  const [at] = useLocation();
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-12 shrink-0 items-center gap-4 border-b border-line bg-sheet px-4">
        <Link href="/" aria-label="Plonket, all projects" className="flex items-center gap-2 font-semibold">
          <img src={mark} alt="" className="size-[26px]" />
          Plonket
        </Link>
        <nav aria-label="Pages" className="flex gap-1">
          {PAGES.map((p) => (
            <Link
              key={p.to}
              href={p.to}
              aria-current={at === p.to ? "page" : undefined}
              className="rounded-md px-3 py-1.5 font-medium text-ink-2 hover:bg-paper aria-[current=page]:bg-tide-2 aria-[current=page]:text-tide"
            >
              {p.label}
            </Link>
          ))}
        </nav>
        <span className="flex-1" />
        <ThemeButton />
      </header>
      <main className="min-h-0 flex-1 overflow-y-auto">
        <div className="mx-auto max-w-[1120px] px-6 py-6">
          <div className="mb-5 flex items-center gap-3">
            <h1 className="flex-1 text-xl font-bold">{title}</h1>
            {actions}
          </div>
          {children}
        </div>
      </main>
    </div>
  );
}

export function ThemeButton() {
  const { theme, toggle } = useTheme();
  const Icon = theme === "day" ? Moon : Sun;
  return (
    <Button onClick={toggle}>
      <Icon className="size-3.5" aria-hidden /> {theme === "day" ? "Dim room" : "Day"}
    </Button>
  );
}
