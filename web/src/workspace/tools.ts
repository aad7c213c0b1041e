import type { Motion } from "~/api/client";
import { type OutlineFor, type OutlineShape, outlining, type Tool } from "~/workspace/store";

/** What is told of a tool; what a click does with it stands in `actions/plonk.ts`, what it draws in `viewer/ToolOverlay.tsx`. */
interface ToolFacts {
  /** Said above the picture while it is in hand. */
  hint: string;
  /** Whether it works on the clip's own frames, not on the shot's. */
  clips?: boolean;
}
const PICK_SUBJECT =
  "Click on a person or a thing, or drag a box round it; with Alt on what it is not. Esc when done";

export const TOOLS: Record<Tool["kind"], ToolFacts> = {
  handle: { hint: "" },
  "add-point": { hint: "Click on a small, clear detail", clips: true },
  outline: { hint: "Drag a box, or click round it; Enter closes", clips: true },
  perch: { hint: "Click where things should sit" },
  beam: { hint: "Click the first knot, then the second" },
  plonk: { hint: "Click where it should sit" },
  pick: { hint: "Click on the colour, or drag over some of it", clips: true },
  cut: { hint: "Click on the subject, or draw over it; with Alt on what is not. Esc when done" },
  "pick-out": { hint: PICK_SUBJECT },
  middle: { hint: "Click on what should lie in the middle" },
  tug: { hint: "Click on the form where a tug should hold it", clips: true },
  pivot: { hint: "Click the place it turns about" },
  point: { hint: "Click on the place to pick" },
  shadow: { hint: "Click into a shadow of the footage, not far from its edge" },
};

/** The tools that lie ready above the picture. */
export const READY: { tool: Tool; title: string; label: (motion: Motion | null) => string }[] = [
  {
    tool: { kind: "add-point" },
    title: "Set a point on a small, clear detail (N)",
    label: (m) => (m?.kind === "points" ? "Another point" : "Point"),
  },
  {
    tool: outlining(),
    title: "Outline a flat surface (R)",
    label: (m) => (m?.kind === "plane" ? "Another region" : "Surface"),
  },
  { tool: { kind: "perch" }, title: "A place for things to sit on (B)", label: () => "Perch" },
  { tool: { kind: "beam" }, title: "A line between two places (L)", label: () => "Beam" },
];

const OUTLINE_HINTS: Record<OutlineFor, string> = {
  motion: TOOLS.outline.hint,
  mend: "Draw round what should go: drag a box, or click round it; Enter closes",
  clean: "Draw round what this frame should show: drag a box, or click round it; Enter closes",
  suggest: "Draw round what should go: drag a box, or click round it; Enter closes",
  freeze: "Draw round what should stand still as in this frame: drag a box, or click round it; Enter closes",
  mask: "Drag a box, or click round it; Enter closes",
};
const SHAPE_HINTS: Record<Exclude<OutlineShape, "free">, string> = {
  ellipse: "Drag a box round the ellipse",
  graded: "Drag from where it is full to where it is gone",
};

export function hintOf(tool: Tool): string {
  if (tool.kind !== "outline") return TOOLS[tool.kind].hint;
  return tool.shape === "free" ? OUTLINE_HINTS[tool.for] : SHAPE_HINTS[tool.shape];
}
