import { spacesQuery } from "~/api/spaces";
import type { QueryClient } from "@tanstack/react-query";
import {
  type Operation,
  type OperationAnswer,
  type PatchStep,
  type Shot,
  type ShotRecord,
  ApiError,
  type Asked,
  answered,
  api,
} from "~/api/client";
import { inLine } from "~/api/line";
import { complain, mention } from "~/ui/Notices";

/** The later of an answer and what is here already: an answer may be overtaken by another on its way. */
export function newest(client: QueryClient, answer: ShotRecord): ShotRecord {
  const here = client.getQueryData<ShotRecord>(["shot", answer.id]);
  return here && here.version > answer.version ? here : answer;
}

/** A shot was changed for the `version`th time, here or elsewhere: fetch it, unless that is what is here by its turn in the line. */
export const heardOf = (client: QueryClient, shot: string, version: number) =>
  inLine(async () => {
    const here = client.getQueryData<ShotRecord>(["shot", shot]);
    if (here && here.version < version) await client.invalidateQueries({ queryKey: ["shot", shot] });
  });

/** Steps, or what makes them from the shot as it will be when their turn comes. */
export type Change = PatchStep[] | ((shot: Shot) => PatchStep[]);

/** Ways to change a shot, in line; each answers with null when it was refused, and says why. */
export interface Edits {
  edit: (label: string, change: Change) => Promise<ShotRecord | null>;
  /** A change of more than one thing, by name; the answer says what is new. */
  operate: (
    /** Or what makes it from the shot as it will be when its turn comes; null: nothing is to be done. */
    operation: Operation | ((shot: Shot) => Operation | null),
  ) => Promise<OperationAnswer | null>;
  undo: () => Promise<void>;
  redo: () => Promise<void>;
  /** Something that the server works out; `shotIn` finds the changed shot where it is not the whole answer. */
  ask: {
    (asked: () => Asked<ShotRecord>): Promise<ShotRecord | null>;
    <T>(asked: () => Asked<T>, shotIn: (answer: T) => ShotRecord): Promise<T | null>;
  };
}

const whole = (answer: ShotRecord) => answer;

/** The ways to change one shot. */
export function editsOf(client: QueryClient, shotId: string): Edits {
  const now = () => client.getQueryData<ShotRecord>(["shot", shotId]);
  const params = { path: { shot_id: shotId } };
  /** `ask` is called when its turn comes; null: there is nothing to do. */
  const send = <T>(ask: () => Asked<T> | null, shotIn: (answer: T) => ShotRecord) =>
    inLine(async () => {
      try {
        const asked = ask();
        if (asked === null) return null;
        const answer = await answered(asked);
        const record = shotIn(answer);
        // Where followers are is known before the change shows, so that no handle jumps back and forth.
        if (record.spaces !== now()?.spaces)
          await client.prefetchQuery(spacesQuery(shotId, record.number, record.spaces, false));
        client.setQueryData(["shot", shotId], newest(client, record));
        return answer;
      } catch (error) {
        await client.invalidateQueries({ queryKey: ["shot", shotId] });
        complain(error instanceof ApiError ? error.message : String(error));
        return null;
      }
    });
  const step = async (way: "undo" | "redo", word: string) => {
    let what: string | null = null;
    const done = await send(() => {
      // What an edit that was still on its way has made is there by now.
      what = now()?.[way] ?? null;
      if (what === null) return null;
      return way === "undo"
        ? api.POST("/api/shots/{shot_id}/undo", { params })
        : api.POST("/api/shots/{shot_id}/redo", { params });
    }, whole);
    if (done) mention(`${word}: ${what}`);
  };
  return {
    edit: (label, change) =>
      send(() => {
        const shot = now()?.document;
        const patch = typeof change !== "function" ? change : shot ? change(shot) : [];
        return patch.length
          ? api.POST("/api/shots/{shot_id}/edits", {
              params,
              body: { label, patch: patch.map((step) => ({ ...step })) },
            })
          : null;
      }, whole),
    operate: (operation) =>
      send(
        () => {
          const shot = now()?.document;
          const asked = typeof operation !== "function" ? operation : shot ? operation(shot) : null;
          return asked && api.POST("/api/shots/{shot_id}/operations", { params, body: { operation: asked } });
        },
        (answer) => answer.shot,
      ),
    undo: () => step("undo", "Undone"),
    redo: () => step("redo", "Done again"),
    ask: <T>(asked: () => Asked<T>, shotIn?: (answer: T) => ShotRecord) =>
      send<T>(asked, shotIn ?? ((answer) => answer as unknown as ShotRecord)),
  };
}
