import { DropdownMenu } from "radix-ui";
import { Download } from "lucide-react";
import { useOpenShot } from "~/workspace/context";
import { kindOf } from "~/workspace/kinds";
import { useWorkspace } from "~/workspace/store";

/** The masks of a thing as files: outlines as they are now or as they move, and what they cover in every frame. */
export function MasksOut({ thing, drawn }: { thing: string; drawn: boolean }) {
  const { shotId, record } = useOpenShot();
  const frame = useWorkspace((w) => w.frame);
  const address = `/api/shots/${shotId}/masks/${thing}`;
  const files = [
    ...(drawn
      ? [
          {
            label: "Outlines, as in this frame",
            hint: "SVG, to draw on",
            href: `${address}?frame=${frame}&number=${record.number}`,
          },
          {
            label: "Outlines, as they move",
            hint: "SVG that plays, with all keys",
            href: `${address}?frame=${frame}&number=${record.number}&moving=true`,
          },
        ]
      : []),
    ...(kindOf("motion", "matte")?.formats ?? []).map(({ name, label }) => ({
      label: `What they cover: ${label}`,
      hint: "white where they are, a picture a frame",
      href: `${address}/pictures/${name}`,
    })),
  ];
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className="text-ink-2 hover:text-tide"
        aria-label="Masks as files"
        title="Masks as files"
      >
        <Download className="size-4" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-50 w-64 rounded-lg border border-line bg-raise p-1 shadow-xl"
        >
          {files.map((one) => (
            <DropdownMenu.Item key={one.href} asChild>
              <a
                href={one.href}
                download
                className="block cursor-pointer rounded-md px-2.5 py-1 outline-none data-[highlighted]:bg-tide-2"
              >
                <b className="block font-semibold">{one.label}</b>
                <span className="text-xs text-ink-2">{one.hint}</span>
              </a>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
