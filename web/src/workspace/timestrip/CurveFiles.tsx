import { DropdownMenu } from "radix-ui";
import { Ellipsis } from "lucide-react";
import { api } from "~/api/client";
import { pickText } from "~/workspace/actions/files";
import { useOpenShot } from "~/workspace/context";

const FORMS = [
  { form: "csv", label: "As a table (CSV)", hint: "a row a frame, a column a number" },
  { form: "json", label: "As keys (JSON)", hint: "each key with its ease and handles" },
];
const ROW = "block w-full cursor-pointer rounded-md px-2.5 py-1 outline-none data-[highlighted]:bg-tide-2";

/** The keyed numbers of a thing as files, and from one. */
export function CurveFiles({ owner, any }: { owner: string; any: boolean }) {
  const { shotId, edits } = useOpenShot();
  const bringIn = () =>
    pickText(
      ".csv,.json",
      (name, text) =>
        void edits.ask(() =>
          api.POST("/api/shots/{shot_id}/curves/{owner}", {
            params: { path: { shot_id: shotId, owner } },
            body: { name, text },
          }),
        ),
    );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className="rounded px-1 py-0.5"
        aria-label="Curves as files"
        title="Curves as files, and from one"
      >
        <Ellipsis className="size-3.5" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          className="z-50 w-56 rounded-lg border border-line bg-raise p-1 text-xs shadow-xl"
        >
          {any &&
            FORMS.map(({ form, label, hint }) => (
              <DropdownMenu.Item key={form} asChild>
                <a className={ROW} href={`/api/shots/${shotId}/curves/${owner}/curves.${form}`} download>
                  <b className="block font-semibold">{label}</b>
                  <span className="text-ink-2">{hint}</span>
                </a>
              </DropdownMenu.Item>
            ))}
          <DropdownMenu.Item className={ROW} onSelect={bringIn}>
            <b className="block font-semibold">From a file …</b>
            <span className="text-ink-2">for numbers of the same names</span>
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
