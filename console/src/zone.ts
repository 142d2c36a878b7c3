// How instants are shown: in the zone that was chosen, or the browser's, or UTC. The choice never changes a result.
import { useSyncExternalStore } from "react";

const kept = "fiume.zone";
let zone = localStorage.getItem(kept) || "UTC";
const listeners = new Set<() => void>();
const formats = new Map<string, Intl.DateTimeFormat>();

export const zones = [
  "UTC",
  Intl.DateTimeFormat().resolvedOptions().timeZone,
  "Europe/Rome",
  "America/New_York",
  "Asia/Tokyo",
].filter((z, i, a) => z && a.indexOf(z) === i);

export function setZone(z: string) {
  zone = z;
  localStorage.setItem(kept, z);
  listeners.forEach((f) => f());
}

/** The chosen zone; the component is drawn again when it changes. */
export const useZone = () =>
  useSyncExternalStore(
    (f) => {
      listeners.add(f);
      return () => listeners.delete(f);
    },
    () => zone,
  );

function format(): Intl.DateTimeFormat {
  let f = formats.get(zone);
  if (!f) {
    f = new Intl.DateTimeFormat("sv-SE", {
      timeZone: zone,
      year: "numeric",
      month: "2-digit",
      day: "2-digit",
      hour: "2-digit",
      minute: "2-digit",
      second: "2-digit",
    });
    formats.set(zone, f);
  }
  return f;
}

/** An instant in microseconds, to the millisecond. */
export function instant(us: number | undefined | null): string {
  if (us === undefined || us === null) return "–";
  const ms = Math.floor(us / 1000);
  return `${format().format(ms)}.${String(((ms % 1000) + 1000) % 1000).padStart(3, "0")}${zone === "UTC" ? "Z" : ""}`;
}

/** A time as the service writes it, in the chosen zone. */
export function moment(text: string | undefined): string {
  if (!text) return "–";
  const ms = Date.parse(text);
  return Number.isNaN(ms) ? text : instant(ms * 1000);
}

/** Only the time of day, to the second. */
export const clock = (us: number) => instant(us).slice(11, 19);

/** A value of a TIMESTAMP column. */
export const timestamp = (text: unknown) => (typeof text === "string" ? moment(text) : String(text));
