import { Dialog as Radix } from "radix-ui";
import type { ReactNode } from "react";

export function Dialog({
  open,
  onOpenChange,
  title,
  children,
  wide = false,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  title: string;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <Radix.Root open={open} onOpenChange={onOpenChange}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/45" />
        <Radix.Content
          aria-describedby={undefined}
          className={`fixed top-1/2 left-1/2 z-40 max-h-[88vh] ${wide ? "w-[760px]" : "w-[440px]"} max-w-[94vw] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded-xl border border-line bg-sheet p-5 shadow-2xl`}
        >
          <Radix.Title className="mb-3 text-base font-bold">{title}</Radix.Title>
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
