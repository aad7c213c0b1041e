import { useCallback } from "react";
import { type Shot, api } from "~/api/client";
import { useOpenShot } from "~/workspace/context";
import { has } from "~/workspace/kinds";
import { act } from "~/workspace/store";

export interface Front {
  what: "screen" | "sky" | "colours" | "strokes";
  label: string;
  hint: string;
  /** What the layer is called. */
  name: string;
}

/** The ways to put something behind part of the footage. */
export const FRONTS: Front[] = [
  {
    what: "screen",
    label: "Key the footage",
    hint: "filmed before a green or blue cloth: anything can stand behind it",
    name: "Keyed footage",
  },
  {
    what: "sky",
    label: "New sky",
    hint: "the sky is found and taken off; another goes behind the ridge",
    name: "Before the sky",
  },
  {
    what: "colours",
    label: "By its colours",
    hint: "pick what lets through: the panes of a window, a screen that is off",
    name: "Let through by colour",
  },
  {
    what: "strokes",
    label: "Bring this forward",
    hint: "draw over what should stand before the things in the stack",
    name: "Brought forward",
  },
];

/** Brings part of the footage to the front, chooses it, and shows what is to be looked at next. */
export function useBringForward() {
  const { edits, shotId } = useOpenShot();
  return useCallback(
    async ({ what, name }: Front) => {
      const answer = await edits.ask(
        () =>
          api.POST("/api/shots/{shot_id}/front", {
            params: { path: { shot_id: shotId } },
            body: { what, name },
          }),
        (a) => a.shot,
      );
      if (!answer?.made) return;
      act({ do: "choose", chosen: { kind: "layer", id: answer.made } });
      if (what === "strokes") act({ do: "tool", tool: { kind: "cut" } });
      else if (what === "colours") act({ do: "tool", tool: { kind: "pick" } });
      else act({ do: "show", shown: { kind: "matte" } });
    },
    [edits, shotId],
  );
}

/** Whether that place is behind some of the footage. */
export const isBehind = (path: string) => path !== "/stack/0";

/** Where something new goes in the stack: behind the footage that is chosen, else in front of everything. */
export function freshPlace(shot: Shot, chosen: { kind: string; id?: string }): string {
  const at =
    chosen.kind === "layer"
      ? shot.stack.findIndex((l) => l.id === chosen.id && has("layer", l, "footage"))
      : -1;
  return `/stack/${at + 1}`;
}
