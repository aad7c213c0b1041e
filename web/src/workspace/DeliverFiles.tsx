import { X } from "lucide-react";
import { useState } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { ApiError, type Output, type OutputFile, answered, api } from "~/api/client";
import { useAsset, useKinds, useSavedFiles } from "~/api/queries";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { complain, mention } from "~/ui/Notices";
import { useOpenShot } from "~/workspace/context";
import { Row } from "~/workspace/details/Group";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { groupsOf, has, kindOf } from "~/workspace/kinds";
import { freshId } from "~/workspace/patches";
import { VerbMenu } from "~/workspace/runsheet/VerbMenu";

/** The files that a delivery makes: a list, and the settings of the chosen one. */
export function DeliverFiles({ files }: { files: OutputFile[] }) {
  const { record, edits } = useOpenShot();
  const { data: kinds } = useKinds("output");
  const [chosen, setChosen] = useState<string | null>(null);
  const shot = record.document;
  const now = files.find((f) => f.id === chosen) ?? files[0];
  const outputs = files.map((f) => f.output);
  // What was made by itself becomes a list of its own with the first change. A change is made to what the ones before it left.
  const store = (label: string, to: (now: Output[]) => Output[]) =>
    edits.edit(label, (latest) => {
      const now = latest.delivery.outputs.length ? latest.delivery.outputs : outputs;
      return [{ op: "replace", path: "/delivery/outputs", value: to(now) }];
    });
  const change = (label: string, id: string, values: object) =>
    void store(label, (now) => now.map((o) => (o.id === id ? ({ ...o, ...values } as Output) : o)));
  const add = (kind: string, label: string, frame: string | null = null) => {
    const id = freshId("file", outputs);
    setChosen(id);
    void store(`Also as ${label}`, (now) => [
      ...now,
      { kind, id, name: label, frame, ...ofFootage(kind) } as Output,
    ]);
  };
  // What was filmed as HDR goes out as such where a file can hold it.
  const deep = useAsset(shot.footage?.asset ?? null)?.transfer ?? "sdr";
  const ofFootage = (made: string) =>
    deep !== "sdr" && kindOf("output", made)?.schema.properties?.["light"] ? { light: "hlg-back" } : {};
  const flattened =
    deep !== "sdr" && !outputs.some((o) => "light" in o && o.light !== "standard") && files.length > 0;
  const names: Record<string, string> = { whole: "The whole picture" };
  for (const f of shot.frames) names[f.id] = f.name;
  const missing = shot.frames.filter((f) => !outputs.some((o) => o.frame === f.id));
  const uncovered =
    shot.footage?.ground === "clear" &&
    now &&
    (!("coverage" in now.output) || now.output.coverage === "none") &&
    !has("output", now, "unseen") &&
    !has("output", now, "parts");
  const kind = now && kindOf("output", now.kind);

  return (
    <div className="mb-4 grid grid-cols-[1fr_330px] gap-4">
      <div className="min-w-0">
        <div className="mb-1.5 flex items-center justify-between text-xs font-bold">
          Files
          <VerbMenu
            verb="Add a file"
            disabled={!kinds}
            rows={(kinds ?? []).map((k) => ({
              label: k.label,
              hint: k.help,
              run: () => add(k.kind, k.label, k.traits.includes("parts") ? null : (now?.frame ?? null)),
            }))}
          />
        </div>
        <ul className="grid max-h-64 gap-1 overflow-y-auto" aria-label="Files that are made">
          {files.map((file) => (
            <li
              key={file.id}
              className={`flex items-center gap-2 rounded-lg border px-2.5 py-1.5 ${file === now ? "border-tide bg-raise shadow-[inset_3px_0_0_var(--tide)]" : "border-line bg-sheet hover:border-ink-3"}`}
            >
              <button
                className="min-w-0 flex-1 text-left"
                aria-pressed={file === now}
                onClick={() => setChosen(file.id)}
              >
                <b className="block truncate text-[13px] font-semibold">{file.label}</b>
                <span className="block truncate text-xs text-ink-2">
                  {!has("output", file, "unseen") && (
                    <span className="num">
                      {file.width} × {file.height} ·{" "}
                    </span>
                  )}
                  {file.file}
                </span>
              </button>
              {files.length > 1 && (
                <button
                  aria-label={`Not ${file.file}`}
                  title="Leave it out"
                  className="grid size-6 shrink-0 place-items-center rounded text-ink-3 hover:bg-paper"
                  onClick={() =>
                    void store(`Not as ${file.label}`, (now) => now.filter((o) => o.id !== file.id))
                  }
                >
                  <X className="size-3.5" />
                </button>
              )}
            </li>
          ))}
        </ul>
        {missing.map((f) => (
          <p key={f.id} className="mt-1.5 text-xs text-ink-2">
            {f.name} is not delivered.{" "}
            <button className="font-semibold text-tide" onClick={() => add("h264", "H.264 (MP4)", f.id)}>
              Add it
            </button>
          </p>
        ))}
        {flattened && (
          <p className="mt-1.5 text-xs text-ink-2">
            This clip is HDR ({deep.toUpperCase()}); these files have standard light.{" "}
            <button
              className="font-semibold text-tide"
              onClick={() => add("h265", "H.265 (MP4)", now?.frame ?? null)}
            >
              Add one in HDR
            </button>
          </p>
        )}
        <Saved outputs={outputs} store={store} />
      </div>
      {now && kind && (
        <div className="min-w-0">
          <p className="mb-1.5 text-xs text-ink-2">{kind.help}</p>
          {!kind.traits.includes("unseen") && !kind.traits.includes("parts") && (
            <Row label="Picture" help="Which part of the picture" wide>
              <Choice
                label="Picture"
                value={now.frame ?? "whole"}
                names={names}
                onChange={(v) => change("Picture of a file", now.id, { frame: v === "whole" ? null : v })}
              />
            </Row>
          )}
          <SchemaForm
            key={now.id}
            bare
            schema={kind.schema}
            groups={groupsOf(kind, now.output)}
            values={now.output as unknown as Record<string, unknown>}
            onChange={(field, value, label) => change(`${label} of a file`, now.id, { [field]: value })}
          />
          <Row
            label="Called"
            help="{shot}, {frame}, {format} and {size} stand for those; the ending comes by itself"
            wide
          >
            <input
              key={`${now.id} ${now.output.file}`}
              aria-label="What the file is called"
              defaultValue={now.output.file}
              maxLength={120}
              className="num h-[26px] min-w-0 rounded-md border border-line bg-raise px-2 text-xs text-ink"
              onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
              onBlur={(e) => {
                const file = e.target.value.trim();
                if (file && file !== now.output.file) change("Name of a file", now.id, { file });
              }}
            />
          </Row>
          {uncovered && (
            <p className="mt-1 text-xs text-brick">
              Where one sees through the picture this file is black: it holds no coverage. ProRes 4444, WebM,
              PNG or EXR do.
            </p>
          )}
        </div>
      )}
    </div>
  );
}

/** Settings of files that are kept under a name, for other shots. */
function Saved({
  outputs,
  store,
}: {
  outputs: Output[];
  store: (label: string, to: (now: Output[]) => Output[]) => Promise<unknown>;
}) {
  const client = useQueryClient();
  const { data = [] } = useSavedFiles(true);
  const [naming, setNaming] = useState<string | null>(null);
  const refresh = () => client.invalidateQueries({ queryKey: ["saved-files"] });
  const keep = async () => {
    const name = naming?.trim();
    setNaming(null);
    if (!name) return;
    try {
      await answered(api.POST("/api/saved-files", { body: { name, outputs } }));
      await refresh();
      mention(`Kept as ${name}.`);
    } catch (problem) {
      complain(problem instanceof ApiError ? problem.message : String(problem));
    }
  };
  return (
    <div className="mt-2.5 flex flex-wrap items-center gap-1.5">
      {data.map((one) => (
        <span
          key={one.id}
          className="inline-flex items-center rounded-full border border-line bg-raise pl-2.5 text-xs"
        >
          <button
            title="Make these files"
            onClick={() => void store(`Files as ${one.name}`, () => one.outputs)}
            className="py-1 font-semibold text-tide"
          >
            {one.name}
          </button>
          <button
            aria-label={`Forget ${one.name}`}
            className="grid size-6 place-items-center rounded-full text-ink-3 hover:text-brick"
            onClick={() =>
              void answered(
                api.DELETE("/api/saved-files/{saved_id}", { params: { path: { saved_id: one.id } } }),
              ).then(refresh)
            }
          >
            <X className="size-3" />
          </button>
        </span>
      ))}
      {naming === null ? (
        <Button look="quiet" className="h-7 text-xs" onClick={() => setNaming("")}>
          Keep these settings …
        </Button>
      ) : (
        <input
          autoFocus
          aria-label="Name for these settings"
          placeholder="Name, then Enter"
          value={naming}
          maxLength={80}
          className="h-7 w-44 rounded-md border border-line bg-raise px-2 text-xs"
          onChange={(e) => setNaming(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === "Enter") void keep();
            if (e.key === "Escape") {
              e.stopPropagation();
              setNaming(null);
            }
          }}
          onBlur={() => setNaming(null)}
        />
      )}
    </div>
  );
}
