// One cursor through all panels of a page: the time that the pointer is at, in seconds since 1970.
import { useSyncExternalStore } from "react";

let time: number | null = null;
const listeners = new Set<(t: number | null) => void>();

export function setCursor(t: number | null) {
  if (t === time) return;
  time = t;
  listeners.forEach((f) => f(t));
}

/** Hears of each change, until the answer is called. */
export function onCursor(f: (t: number | null) => void): () => void {
  listeners.add(f);
  return () => listeners.delete(f);
}

/** The time of the cursor; the component is drawn again when it changes. */
export const useCursor = () => useSyncExternalStore(onCursor, () => time);
