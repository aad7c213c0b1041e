import { create } from "zustand";

export type Chosen =
  | { kind: "footage" }
  /** `point` is a point of a point motion; `region` one of a plane's. */
  | { kind: "motion"; id: string; point: string | null; region?: string | null }
  | { kind: "perch"; id: string }
  | { kind: "plate"; id: string }
  | { kind: "layer"; id: string }
  | { kind: "finish" }
  | { kind: "frame"; id: string }
  | { kind: "none" };

/** A point of a look: whose it is, and whether it is picked on its own picture or on the plate. */
export interface Picking {
  layer: string | null;
  look: string;
  point: "black" | "grey" | "white";
  of: "it" | "plate";
}
export type OutlineFor = "motion" | "mend" | "clean" | "suggest" | "freeze" | "mask";
export type OutlineShape = "free" | "ellipse" | "graded";

/** What a click or a drag on the picture does, with what it needs to know. */
export type Tool =
  | { kind: PlainTool }
  /** What is drawn: where a motion looks (or does not), what is taken out of the plate, or a mask of the chosen thing. */
  | { kind: "outline"; for: OutlineFor; use: boolean; shape: OutlineShape }
  /** Placed where clicked, or pinned to a plane's corners. */
  | { kind: "plonk"; what: string; as: "still" | "pin" }
  /** Picks a colour for the chosen layer's key, or for the key of one of its masks. */
  | { kind: "pick"; mask?: string }
  /** The point of a look that the next click sets. */
  | { kind: "point"; picking: Picking };
export type PlainTool =
  "handle" | "add-point" | "perch" | "beam" | "middle" | "cut" | "tug" | "pivot" | "shadow" | "pick-out";

/** Drawing an outline; unless said otherwise, of a surface to follow. */
export const outlining = (more: Partial<Omit<Tool & { kind: "outline" }, "kind">> = {}): Tool => ({
  kind: "outline",
  for: "motion",
  use: true,
  shape: "free",
  ...more,
});

/** What the viewer shows; one way of looking at a time. */
export type Shown =
  | { kind: View }
  /** The surface of a motion, held still. */
  | { kind: "held"; motion: string }
  /** A layer by itself; `over` as in a frame's address: "checker", or "over-" and a colour. */
  | { kind: "alone"; layer: string; over: string }
  /** A clean frame half opaque, to line it up. */
  | { kind: "half"; clean: string };
export type View = "final" | "plate" | "matte";

/** Which of the three views the picture is one of: what is held, alone or half shown is the final one. */
export const viewOf = (shown: Shown): View =>
  shown.kind === "plate" || shown.kind === "matte" ? shown.kind : "final";
export const heldOf = (shown: Shown): string | null => (shown.kind === "held" ? shown.motion : null);

/** Where the picture lies in the viewer: screen = picture * zoom + offset. Zoom null: fitted. */
export interface Viewport {
  zoom: number | null;
  x: number;
  y: number;
}

/** What the picture is compared with. */
export type Other =
  | { kind: "untouched" }
  | { kind: "plate" }
  | { kind: "final" }
  | { kind: "frame"; frame: number }
  | { kind: "step"; picture: string; label: string }
  | { kind: "held"; motion: string };

/** How two pictures are compared: one wiped off the other at a part of its width, beside each other, or their difference. */
export interface Compare {
  other: Other;
  how: "wipe" | "beside" | "difference";
  at: number;
  gain: number;
}
const COMPARED: Compare = { other: { kind: "untouched" }, how: "wipe", at: 0.5, gain: 4 };

export interface WorkspaceState {
  frame: number;
  playing: boolean;
  /** Whether the playhead is being dragged: snatches of sound are heard. */
  scrubbing: boolean;
  chosen: Chosen;
  tool: Tool;
  shown: Shown;
  /** Whether a cut-out's stroke is over the subject, and how wide it is on screen. */
  cutSubject: boolean;
  cutWidth: number;
  /** Details picked in the picture, by number, in the order in which they were. */
  picked: string[];
  /** What of a solved room is shown over the picture. */
  room: { details: boolean; ground: boolean; boxes: boolean; views: boolean; pull: boolean };
  /** Over how many frames before and after it what is pulled right in a frame comes and goes. */
  pullOver: number;
  /** The chosen mask of the chosen thing, and others that are moved along with it. */
  mask: string | null;
  masksToo: string[];
  /** The look that is open in the details: its spots are grips in the picture. */
  look: string | null;
  /** Whether masks are those of the open look, not of the chosen thing. */
  lookMasks: boolean;
  /** Whether a changed number moves the whole path of its keys. */
  overAll: boolean;
  /** Whether a given-back shot is shown held, to work on it. */
  worked: boolean;
  /** The clean frame at the paint desk: its treatment and which of its frames. */
  desk: { id: string; frame: number } | null;
  /** The frame laid over, and how opaque it is, 0 to 1. */
  onion: number | null;
  onionShare: number;
  /** A picture pixel that the loupe stays open on. */
  loupe: { x: number; y: number } | null;
  curves: boolean;
  /** Whether places are marked that captions and buttons lie over. */
  safeAreas: boolean;
  /** Frames of the shot whose speed is set. */
  stretch: { first: number; last: number } | null;
  /** Whether the time strip shows the bars of all layers, not only of the chosen one. */
  bars: boolean;
  adviceOpen: boolean;
  scopesOpen: boolean;
  /** The picture before the last match, and whether it is shown in place of the present one. */
  before: { picture: string; on: boolean } | null;
  /** Which suggestion of the adviser stands out. */
  advised: number;
  compare: Compare | null;
  /** The motion that the chosen one is set against, and the spot at which; null: the middle of what the chosen one follows. */
  apart: { motion: string; at: { x: number; y: number; frame: number } | null } | null;
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
  | { do: "scrub"; on: boolean }
  | { do: "choose"; chosen: Chosen }
  | { do: "tool"; tool: Tool }
  | { do: "show"; shown: Shown }
  | { do: "cut"; subject?: boolean; width?: number }
  | { do: "pick-detail"; id: string | null; add?: boolean }
  | { do: "pick-details"; ids: string[] }
  | { do: "room"; show: Partial<WorkspaceState["room"]> }
  | { do: "pull-over"; frames: number }
  | { do: "mask"; id: string | null; add?: boolean }
  | { do: "look"; id: string | null }
  | { do: "lookMasks"; on: boolean }
  | { do: "overAll"; on: boolean }
  | { do: "worked"; on: boolean }
  | { do: "desk"; desk: WorkspaceState["desk"] }
  | { do: "onion"; frame: number | null }
  | { do: "loupe"; at: WorkspaceState["loupe"] }
  | { do: "curves"; on: boolean }
  | { do: "safeAreas"; on: boolean }
  | { do: "bars"; on: boolean }
  | { do: "stretch"; stretch: WorkspaceState["stretch"] }
  | { do: "advised"; at: number }
  | { do: "before"; before: WorkspaceState["before"] }
  | { do: "compare"; with: Partial<Compare> | null }
  | { do: "onionShare"; share: number }
  | { do: "apart"; apart: WorkspaceState["apart"] }
  | { do: "flick"; frame: number | null }
  | { do: "viewport"; viewport: Viewport }
  | { do: "open"; what: "shelf" | "keys" | "deliver" | "advice" | "scopes"; on: boolean }
  | { do: "offer"; offer: WorkspaceState["offer"] }
  | { do: "reset" };

export const HANDLE: Tool = { kind: "handle" };
export const FINAL: Shown = { kind: "final" };

const START = {
  frame: 0,
  playing: false,
  scrubbing: false,
  chosen: { kind: "none" } as Chosen,
  tool: HANDLE,
  shown: FINAL,
  cutSubject: true,
  cutWidth: 18,
  picked: [] as string[],
  room: { details: true, ground: false, boxes: false, views: true, pull: false },
  pullOver: 8,
  mask: null,
  masksToo: [] as string[],
  look: null,
  lookMasks: false,
  overAll: false,
  worked: true,
  desk: null,
  onion: null,
  onionShare: 0.5,
  loupe: null,
  curves: false,
  safeAreas: true,
  stretch: null as WorkspaceState["stretch"],
  bars: false,
  adviceOpen: false,
  scopesOpen: false,
  before: null,
  advised: 0,
  compare: null as Compare | null,
  apart: null as WorkspaceState["apart"],
  flick: null,
  viewport: { zoom: null, x: 0, y: 0 },
  shelfOpen: false,
  keysOpen: false,
  deliverOpen: false,
  offer: null,
};

/** One more mask, or one less, beside those that are chosen. */
function withMask(id: string, { mask, masksToo }: WorkspaceState): Partial<WorkspaceState> {
  if (mask === null) return { mask: id };
  if (masksToo.includes(id)) return { masksToo: masksToo.filter((m) => m !== id) };
  if (mask !== id) return { masksToo: [...masksToo, id] };
  return { mask: masksToo[0] ?? null, masksToo: masksToo.slice(1) };
}

function reduce(action: Action, now: WorkspaceState): Partial<WorkspaceState> {
  switch (action.do) {
    case "cut":
      return {
        ...(action.subject === undefined ? {} : { cutSubject: action.subject }),
        ...(action.width === undefined ? {} : { cutWidth: action.width }),
      };
    case "pick-detail": {
      if (action.id === null) return { picked: [] };
      const without = now.picked.filter((p) => p !== action.id);
      const others = action.add ? without : [];
      return { picked: without.length < now.picked.length && action.add ? without : [...others, action.id] };
    }
    case "pick-details":
      return { picked: [...new Set([...now.picked, ...action.ids])] };
    case "pull-over":
      return { pullOver: action.frames };
    case "room":
      return { room: { ...now.room, ...action.show } };
    case "frame":
      return { frame: action.frame, loupe: null };
    case "play":
      return { playing: action.on };
    case "scrub":
      return { scrubbing: action.on };
    case "choose":
      return {
        chosen: action.chosen,
        tool: HANDLE,
        // A layer by itself and a clean frame half shown go with what was chosen.
        shown: now.shown.kind === "alone" || now.shown.kind === "half" ? FINAL : now.shown,
        offer: null,
        loupe: null,
        picked: [],
        apart: null,
        mask: null,
        masksToo: [],
        look: null,
        lookMasks: false,
      };
    case "tool":
      return { tool: action.tool, offer: null, shown: now.shown.kind === "held" ? FINAL : now.shown };
    case "show":
      return { shown: action.shown };
    case "mask":
      return action.add && action.id ? withMask(action.id, now) : { mask: action.id, masksToo: [] };
    case "look":
      return { look: action.id, lookMasks: false, mask: null, masksToo: [] };
    case "lookMasks":
      return { lookMasks: action.on, mask: null, masksToo: [] };
    case "overAll":
      return { overAll: action.on };
    case "worked":
      return { worked: action.on, shown: FINAL };
    case "desk":
      return { desk: action.desk, playing: false };
    case "compare":
      return { compare: action.with && { ...(now.compare ?? COMPARED), ...action.with } };
    case "onionShare":
      return { onionShare: action.share };
    case "onion":
      return { onion: action.frame };
    case "loupe":
      return { loupe: action.at };
    case "curves":
      return { curves: action.on };
    case "safeAreas":
      return { safeAreas: action.on };
    case "bars":
      return { bars: action.on };
    case "stretch":
      return { stretch: action.stretch };
    case "advised":
      return { advised: action.at };
    case "before":
      return { before: action.before };
    case "apart":
      return { apart: action.apart };
    case "flick":
      return { flick: action.frame };
    case "viewport":
      return { viewport: action.viewport };
    case "open":
      return { [`${action.what}Open`]: action.on };
    case "offer":
      return { offer: action.offer };
    case "reset":
      return START;
  }
}

/** Selection, playhead and tool of the open shot. What the shot *is* lives in the query cache. */
export const useWorkspace = create<WorkspaceState>((set) => ({
  ...START,
  act: (action) => set((now) => reduce(action, now)),
}));

export const act = (action: Action) => useWorkspace.getState().act(action);
