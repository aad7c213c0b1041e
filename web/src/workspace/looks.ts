import { useSyncExternalStore } from "react";
import type { Look } from "~/api/client";

const PLACE = "plonket.looks";
const CHANGED = "plonket-looks";

/** Looks that may go anywhere: without masks, and without places that only their own shot has. */
const unbound = (look: Look): Look => ({
  ...look,
  masks: [],
  ...("rides" in look ? { rides: "footage", reference_frame: 0 } : {}),
});

/** Copy looks, for other layers and shots in this browser. */
export function copyLooks(looks: Look[]): void {
  localStorage.setItem(PLACE, JSON.stringify(looks.map(unbound)));
  dispatchEvent(new Event(CHANGED));
}

function watch(told: () => void): () => void {
  addEventListener(CHANGED, told);
  addEventListener("storage", told);
  return () => {
    removeEventListener(CHANGED, told);
    removeEventListener("storage", told);
  };
}

let text = "";
let read: Look[] = [];

/** The same list for as long as nothing else is copied. */
function copied(): Look[] {
  const now = localStorage.getItem(PLACE) ?? "[]";
  if (now === text) return read;
  text = now;
  try {
    read = JSON.parse(now) as Look[];
  } catch {
    read = [];
  }
  return read;
}

/** The looks that were copied last. */
export const useCopied = () => useSyncExternalStore(watch, copied);
