import { Dialog } from "~/ui/Dialog";
import { KEYS } from "~/workspace/keys";
import { act, useWorkspace } from "~/workspace/store";

export function KeysSheet() {
  const open = useWorkspace((s) => s.keysOpen);
  return (
    <Dialog wide open={open} onOpenChange={(on) => act({ do: "open", what: "keys", on })} title="Keys">
      <div className="grid grid-cols-2 gap-x-8 gap-y-5">
        {KEYS.map((group) => (
          <section key={group.group}>
            <h3 className="mb-1.5 border-b border-line pb-1 font-semibold text-tide">{group.group}</h3>
            <dl className="grid grid-cols-[104px_1fr] gap-x-3 gap-y-1.5">
              {group.keys.map(([key, what]) => (
                <div key={key} className="contents">
                  <dt>
                    <kbd className="num rounded border border-line bg-raise px-1.5 py-0.5">{key}</kbd>
                  </dt>
                  <dd>{what}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
    </Dialog>
  );
}
