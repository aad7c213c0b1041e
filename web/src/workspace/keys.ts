import { useEffect } from "react";
import type { Shot } from "~/api/client";
import { useCheckSlip, useMeasure } from "~/workspace/actions/jobs";
import { useAddSteady } from "~/workspace/actions/plate";
import { useGivePoint } from "~/workspace/actions/points";
import { useHeldCandidate, useOpenShot } from "~/workspace/context";
import { valueAt, withValue } from "~/workspace/geometry";
import { round, setOnMotion } from "~/workspace/patches";
import { FINAL, HANDLE, type Shown, act, outlining, useWorkspace, viewOf } from "~/workspace/store";
import { canBeAgain, chosenOf, chosenThing, hasPlace, isThing, setOnChosen } from "~/workspace/things";
import { lengthOf } from "~/workspace/time";
import { useAddMarker } from "~/workspace/timestrip/Markers";
import { useSplit } from "~/workspace/timestrip/Bars";
import { handleSpot, type Tracks } from "~/workspace/tracks";

export const KEYS: { group: string; keys: [string, string][] }[] = [
  {
    group: "Looking",
    keys: [
      ["Space", "Play or pause"],
      [", and .", "One frame back or on (with Shift: ten)"],
      ["Home, End", "First or last frame of the range"],
      ["F", "Flick between the ends"],
      ["W", "Wipe against the untouched clip"],
      ["H", "Hold the followed surface still"],
      ["U", "Onion skin: the other end of the range, half opaque"],
      ["V", "Final, plate, matte in turn"],
      ["+ and −", "Closer or further (or turn the wheel)"],
      ["0", "Fit the picture"],
      ["G", "Scopes of what is shown"],
      ["A", "Before the last match, and after it"],
      ["Drag", "Move the picture"],
    ],
  },
  {
    group: "Following and plonking",
    keys: [
      ["Q", "What would be good to follow?"],
      ["N", "Set a new point"],
      ["R", "Outline a surface, or a region of the chosen plane (with Shift: one to ignore)"],
      ["Z", "Pick a person or a thing out, by clicks (Alt: not this) or a box"],
      ["S", "Stake: the chosen point is right here, on this frame"],
      ["M", "Measure the chosen motion, both ways (with Shift: only this gap)"],
      ["B", "Put up a perch"],
      ["L", "Tie a beam between two places"],
      ["C", "Check how things slip"],
      ["K", "Keep it steady on the chosen motion"],
      ["X", "Curves: of the chosen thing's keys, or of the chosen motion"],
      ["P", "Plonk something from the shelf"],
      ["Arrow keys", "Nudge the chosen thing by 1 px (with Alt: 0.1 px, with Shift: 10 px)"],
      ["Tab, arrow keys", "Reach a grip on the picture, and move it so"],
      ["E", "The chosen thing once more"],
      ["Y", "Split the chosen layer at this frame"],
      ["J", "A marker at this frame"],
      ["T", "Bars of all layers: when each begins and ends"],
      ["Delete", "Take the chosen thing away"],
      ["Esc", "Back to handles; choose nothing"],
    ],
  },
  {
    group: "Keys in the time strip",
    keys: [
      ["Drag", "A box round keys; a key, or all chosen ones (with Shift: along one way)"],
      ["Ctrl A, C, V", "Choose all, copy, paste at the playhead"],
      ["Arrow keys", "Move the chosen keys (with Shift: ten times as far)"],
      ["Double click", "Another key there; on a key: go to its frame"],
      ["Delete", "Take the chosen keys away"],
    ],
  },
  {
    group: "The shot",
    keys: [
      ["I and O", "Range begins or ends at this frame"],
      ["Ctrl Z", "Undo"],
      ["Ctrl Shift Z", "Redo"],
      ["D", "Deliver"],
      ["?", "This sheet"],
    ],
  },
];

export function stepBy(shot: Shot, by: number): void {
  const frames = lengthOf(shot.footage) || 1;
  const { frame } = useWorkspace.getState();
  act({ do: "play", on: false });
  act({ do: "frame", frame: Math.min(frames - 1, Math.max(0, frame + by)) });
}

/** Jump to the other end of the range; each call flips. */
export function flickEnds(shot: Shot): void {
  const footage = shot.footage;
  if (!footage) return;
  const { frame, flick } = useWorkspace.getState();
  act({ do: "play", on: false });
  if (flick === null) act({ do: "flick", frame });
  const next = frame === footage.in_frame ? footage.out_frame : footage.in_frame;
  act({ do: "frame", frame: next });
}

/** The end of the range that is further from a frame. */
export const otherEnd = (footage: { in_frame: number; out_frame: number }, frame: number): number =>
  frame - footage.in_frame > footage.out_frame - frame ? footage.in_frame : footage.out_frame;

const NEXT_VIEW = { final: "plate", plate: "matte", matte: "final" } as const;

/** The surface held still, or no longer. */
export const holding = (shown: Shown, motion: { id: string } | null): Shown =>
  shown.kind !== "held" && motion ? { kind: "held", motion: motion.id } : FINAL;

/** The workspace's keyboard. Fields keep their own keys. */
export function useKeys(tracks: Tracks): void {
  const { record, edits, filmed } = useOpenShot();
  const give = useGivePoint();
  const measure = useMeasure();
  const check = useCheckSlip();
  const steady = useAddSteady();
  const holdable = useHeldCandidate();
  const split = useSplit();
  const mark = useAddMarker();

  useEffect(() => {
    const shot = record.document;
    const footage = shot.footage;

    const nudge = (dx: number, dy: number) => {
      const { chosen, frame } = useWorkspace.getState();
      if (chosen.kind === "motion" && chosen.point) {
        const motion = chosenOf(shot, chosen, "motion");
        if (motion?.kind !== "points" || !motion.points.some((p) => p.id === chosen.point)) return false;
        const spot = handleSpot(tracks, motion, chosen.point, frame);
        void give(motion, chosen.point, { x: spot.x + dx, y: spot.y + dy });
        return true;
      }
      const thing = chosenThing(shot, chosen);
      if (!isThing(chosen) || !hasPlace(thing)) return false;
      void edits.edit(`Nudge ${thing.name}`, (now) => {
        // From where it will be when the nudges before this one are through.
        const found = chosenThing(now, chosen);
        const latest = hasPlace(found) ? found : thing;
        return setOnChosen(now, chosen, {
          x: withValue(latest.x, frame, round(valueAt(latest.x, frame) + dx)),
          y: withValue(latest.y, frame, round(valueAt(latest.y, frame) + dy)),
        });
      });
      return true;
    };

    const setEnd = (which: "in_frame" | "out_frame") => {
      const { frame } = useWorkspace.getState();
      // The range is the shot's: in the clip's own time it is not there to be set.
      if (!footage || filmed) return;
      const fits = which === "in_frame" ? frame <= footage.out_frame : frame >= footage.in_frame;
      if (fits)
        void edits.edit(which === "in_frame" ? "Range begins here" : "Range ends here", [
          { op: "replace", path: `/footage/${which}`, value: frame },
        ]);
    };

    const onKey = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (target.closest("input, textarea, [role=dialog], [role=listbox], [role=menu]")) return;
      if (e.ctrlKey || e.metaKey) {
        if (e.key.toLowerCase() !== "z") return;
        e.preventDefault();
        void (e.shiftKey ? edits.redo() : edits.undo());
        return;
      }
      const state = useWorkspace.getState();
      const { chosen } = state;
      const far = e.shiftKey ? 10 : e.altKey ? 0.1 : 1;
      const arrows: Record<string, [number, number]> = {
        ArrowLeft: [-far, 0],
        ArrowRight: [far, 0],
        ArrowUp: [0, -far],
        ArrowDown: [0, far],
      };
      const arrow = arrows[e.key];
      if (arrow) {
        if (target.closest("[role=slider], [role=toolbar], [role=group], [role=radiogroup]")) return;
        e.preventDefault();
        if (!nudge(...arrow) && arrow[0]) stepBy(shot, Math.sign(arrow[0]) * (e.shiftKey ? 10 : 1));
        return;
      }
      if (e.key === " " && target.closest("button, a, [role=switch]")) return;
      const run: Record<string, () => void> = {
        " ": () => act({ do: "play", on: !state.playing }),
        ",": () => stepBy(shot, -1),
        ".": () => stepBy(shot, 1),
        "<": () => stepBy(shot, -10),
        ">": () => stepBy(shot, 10),
        // Markers are the shot's, as the range is.
        j: () => !filmed && mark(state.frame),
        t: () => act({ do: "bars", on: !state.bars }),
        y: () => {
          const layer = chosenOf(shot, chosen, "layer");
          if (layer) void split(layer);
        },
        Home: () => footage && stepBy(shot, footage.in_frame - state.frame),
        End: () => footage && stepBy(shot, footage.out_frame - state.frame),
        f: () => flickEnds(shot),
        w: () =>
          act({ do: "compare", with: state.compare ? null : { how: "wipe", other: { kind: "untouched" } } }),
        v: () =>
          act({
            do: "show",
            shown: { kind: NEXT_VIEW[viewOf(state.shown)] },
          }),
        "0": () => act({ do: "viewport", viewport: { zoom: null, x: 0, y: 0 } }),
        n: () => footage && act({ do: "tool", tool: { kind: "add-point" } }),
        r: () => footage && act({ do: "tool", tool: outlining({ use: !e.shiftKey }) }),
        z: () => footage && act({ do: "tool", tool: { kind: "pick-out" } }),
        b: () => footage && act({ do: "tool", tool: { kind: "perch" } }),
        l: () => footage && act({ do: "tool", tool: { kind: "beam" } }),
        q: () => footage && act({ do: "open", what: "advice", on: !state.adviceOpen }),
        a: () => state.before && act({ do: "before", before: { ...state.before, on: !state.before.on } }),
        g: () => footage && act({ do: "open", what: "scopes", on: !state.scopesOpen }),
        h: () => act({ do: "show", shown: holding(state.shown, holdable) }),
        u: () =>
          act({
            do: "onion",
            frame: state.onion === null && footage ? otherEnd(footage, state.frame) : null,
          }),
        c: () => void check(null),
        k: () => void steady(),
        x: () => act({ do: "curves", on: !state.curves }),
        p: () => footage && act({ do: "open", what: "shelf", on: true }),
        i: () => setEnd("in_frame"),
        o: () => setEnd("out_frame"),
        d: () => footage && act({ do: "open", what: "deliver", on: true }),
        "?": () => act({ do: "open", what: "keys", on: true }),
        e: () => {
          if (!canBeAgain(chosen)) return;
          void edits.operate({ do: "duplicate", thing: chosen.id }).then((answer) => {
            if (answer?.made) act({ do: "choose", chosen: { ...chosen, id: answer.made } });
          });
        },
        s: () => nudge(0, 0),
        m: () =>
          chosen.kind === "motion" &&
          void measure(chosen.id, e.shiftKey ? "gap" : "both", e.shiftKey ? state.frame : null),
        Escape: () => {
          if (state.loupe) act({ do: "loupe", at: null });
          else if (state.adviceOpen) act({ do: "open", what: "advice", on: false });
          else if (state.shown.kind === "held" || state.shown.kind === "alone")
            act({ do: "show", shown: FINAL });
          else if (state.tool.kind !== "handle") act({ do: "tool", tool: HANDLE });
          else if (state.compare) act({ do: "compare", with: null });
          else act({ do: "choose", chosen: { kind: "none" } });
        },
        Delete: () => {
          const motion = chosenOf(shot, chosen, "motion");
          if (chosen.kind === "motion" && motion && "regions" in motion) {
            const region = motion.regions.find((r) => r.id === chosen.region);
            if (region) {
              const regions = motion.regions.filter((r) => r !== region);
              void edits.edit(`Remove ${region.name}`, setOnMotion(shot, motion.id, { regions }));
              act({ do: "choose", chosen: { kind: "motion", id: motion.id, point: null } });
              return;
            }
          }
          if (!chosenThing(shot, chosen) || !isThing(chosen)) return;
          void edits.operate({ do: "remove", thing: chosen.id });
          act({ do: "choose", chosen: { kind: "none" } });
        },
      };
      const zoom = e.key === "+" || e.key === "=" ? 1.25 : e.key === "-" ? 0.8 : 0;
      if (zoom) {
        document
          .querySelector("[data-testid=well]")
          ?.dispatchEvent(new WheelEvent("wheel", { deltaY: -Math.log(zoom) / 0.0016, ...middle() }));
        return;
      }
      const found = run[e.key.length === 1 && e.key !== " " ? e.key.toLowerCase() : e.key];
      if (!found) return;
      e.preventDefault();
      found();
    };
    // A button pressed by mouse gives the keyboard back, so that Space plays and arrows nudge.
    const onClick = (e: MouseEvent) => {
      if (e.detail > 0) (e.target as HTMLElement).closest("button")?.blur();
    };
    window.addEventListener("keydown", onKey);
    window.addEventListener("click", onClick);
    return () => {
      window.removeEventListener("keydown", onKey);
      window.removeEventListener("click", onClick);
    };
  }, [record, edits, filmed, give, measure, check, steady, holdable, split, mark, tracks]);
}

function middle(): { clientX: number; clientY: number } {
  const box = document.querySelector("[data-testid=well]")?.getBoundingClientRect();
  return box
    ? { clientX: box.left + box.width / 2, clientY: box.top + box.height / 2 }
    : { clientX: 0, clientY: 0 };
}
