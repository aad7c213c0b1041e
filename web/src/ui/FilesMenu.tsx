import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

/** A file that can be taken out, by its address, or something else to do with files. */
export type FileRow = { label: string; hint: string } & ({ href: string } | { run: () => void });

const ROW = "block w-full cursor-pointer rounded-md px-2.5 py-1 outline-none data-[highlighted]:bg-tide-2";

/** A small menu of files behind a sign. */
export function FilesMenu({
  label,
  sign,
  rows,
  align = "end",
}: {
  label: string;
  sign: ReactNode;
  rows: FileRow[];
  align?: "start" | "end";
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="text-ink-2 hover:text-tide" aria-label={label} title={label}>
        {sign}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align={align}
          sideOffset={4}
          className="z-50 w-64 rounded-lg border border-line bg-raise p-1 shadow-xl"
        >
          {rows.map((row) =>
            "href" in row ? (
              <DropdownMenu.Item key={row.label} asChild>
                <a className={ROW} href={row.href} download>
                  <Said {...row} />
                </a>
              </DropdownMenu.Item>
            ) : (
              <DropdownMenu.Item key={row.label} className={ROW} onSelect={row.run}>
                <Said {...row} />
              </DropdownMenu.Item>
            ),
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Said({ label, hint }: { label: string; hint: string }) {
  return (
    <>
      <b className="block font-semibold">{label}</b>
      <span className="text-xs text-ink-2">{hint}</span>
    </>
  );
}
