import { spacesQuery } from "~/api/spaces";
import type { QueryClient } from "@tanstack/react-query";
import {
  type Operation,
  type OperationAnswer,
  type PatchStep,
  type Shot,
  type ShotRecord,
  ApiError,
  post,
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
    (path: string, body: unknown): Promise<ShotRecord | null>;
    <T>(path: string, body: unknown, shotIn: (answer: T) => ShotRecord): Promise<T | null>;
  };
}

const whole = (answer: ShotRecord) => answer;

/** The ways to change one shot. */
export function editsOf(client: QueryClient, shotId: string): Edits {
  const now = () => client.getQueryData<ShotRecord>(["shot", shotId]);
  const send = <T>(path: string, bodyOf: () => unknown, shotIn: (answer: T) => ShotRecord) =>
    inLine(async () => {
      try {
        const body = bodyOf();
        if (body === null) return null;
        const answer = await post<T>(`/shots/${shotId}${path}`, body);
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
  const step = async (path: "/undo" | "/redo", word: string) => {
    let what: string | null = null;
    const ready = () => {
      // What an edit that was still on its way has made is there by now.
      what = now()?.[path === "/undo" ? "undo" : "redo"] ?? null;
      return what === null ? null : {};
    };
    const done = await send(path, ready, whole);
    if (done) mention(`${word}: ${what}`);
  };
  return {
    edit: (label, change) =>
      send(
        "/edits",
        () => {
          const shot = now()?.document;
          const patch = typeof change !== "function" ? change : shot ? change(shot) : [];
          return patch.length ? { label, patch } : null;
        },
        whole,
      ),
    operate: (operation) =>
      send<OperationAnswer>(
        "/operations",
        () => {
          const shot = now()?.document;
          const asked = typeof operation !== "function" ? operation : shot ? operation(shot) : null;
          return asked && { operation: asked };
        },
        (answer) => answer.shot,
      ),
    undo: () => step("/undo", "Undone"),
    redo: () => step("/redo", "Done again"),
    ask: <T>(path: string, body: unknown, shotIn?: (answer: T) => ShotRecord) =>
      send<T>(path, () => body, shotIn ?? ((answer) => answer as ShotRecord)),
  };
}
