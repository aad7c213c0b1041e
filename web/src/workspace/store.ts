import { create } from "zustand";

export type Chosen =
  | { kind: "footage" }
  | { kind: "motion"; id: string; point: string | null }
  | { kind: "layer"; id: string }
  | { kind: "none" };

export type Tool = "handle" | "add-point" | "plonk";
export type View = "final" | "plate" | "matte";

/** Where the picture lies in the viewer: screen = picture * zoom + offset. Zoom null: fitted. */
export interface Viewport {
  zoom: number | null;
  x: number;
  y: number;
}

interface WorkspaceState {
  frame: number;
  playing: boolean;
  chosen: Chosen;
  tool: Tool;
  plonking: string | null;
  view: View;
  wipe: number | null;
  flick: number | null;
  viewport: Viewport;
  shelfOpen: boolean;
  keysOpen: boolean;
  deliverOpen: boolean;
  /** A better place for the point last set, offered by the server. */
  offer: { x: number; y: number; message: string; point: string; motion: string; frame: number } | null;
  act: (action: Action) => void;
}

export type Action =
  | { do: "frame"; frame: number }
  | { do: "play"; on: boolean }
  | { do: "choose"; chosen: Chosen }
  | { do: "tool"; tool: Tool; asset?: string }
  | { do: "view"; view: View }
  | { do: "wipe"; at: number | null }
  | { do: "flick"; frame: number | null }
  | { do: "viewport"; viewport: Viewport }
  | { do: "open"; what: "shelf" | "keys" | "deliver"; on: boolean }
  | { do: "offer"; offer: WorkspaceState["offer"] }
  | { do: "reset" };

const START = {
  frame: 0,
  playing: false,
  chosen: { kind: "none" } as Chosen,
  tool: "handle" as Tool,
  plonking: null,
  view: "final" as View,
  wipe: null,
  flick: null,
  viewport: { zoom: null, x: 0, y: 0 },
  shelfOpen: false,
  keysOpen: false,
  deliverOpen: false,
  offer: null,
};

function reduce(action: Action): Partial<WorkspaceState> {
  switch (action.do) {
    case "frame":
      return { frame: action.frame };
    case "play":
      return { playing: action.on };
    case "choose":
      return { chosen: action.chosen, tool: "handle", plonking: null, offer: null };
    case "tool":
      return { tool: action.tool, plonking: action.asset ?? null, offer: null };
    case "view":
      return { view: action.view, wipe: null };
    case "wipe":
      return { wipe: action.at, view: "final" };
    case "flick":
      return { flick: action.frame };
    case "viewport":
      return { viewport: action.viewport };
    case "open":
      return action.what === "shelf"
        ? { shelfOpen: action.on }
        : action.what === "keys"
          ? { keysOpen: action.on }
          : { deliverOpen: action.on };
    case "offer":
      return { offer: action.offer };
    case "reset":
      return START;
  }
}

/** Selection, playhead and tool of the open shot. What the shot *is* lives in the query cache. */
export const useWorkspace = create<WorkspaceState>((set) => ({
  ...START,
  act: (action) => set(reduce(action)),
}));

export const act = (action: Action) => useWorkspace.getState().act(action);
