// How fast counts grow.
import { useState } from "react";

type Counts = Record<string, number>;

/** Counts at a time (milliseconds), and how fast they grew until then. */
export type Meter = { at: number; counts: Counts; rates: Counts };

/** The meter after another look: rates a second, smoothed over the last few looks. Looks too close together change nothing. */
export function looked(before: Meter | undefined, at: number, counts: Counts): Meter {
  if (!before) return { at, counts, rates: {} };
  const seconds = (at - before.at) / 1000;
  if (seconds < 0.5) return before;
  const rates: Counts = {};
  for (const [k, v] of Object.entries(counts)) {
    const was = before.counts[k];
    if (was === undefined) continue;
    const r = Math.max(0, (v - was) / seconds);
    const smooth = before.rates[k];
    rates[k] = smooth === undefined ? r : 0.5 * r + 0.5 * smooth;
  }
  return { at, counts, rates };
}

/** Turns growing counts into rates a second; at is when the counts came, in milliseconds. */
export function useRates(at: number, counts: Counts): Counts {
  const [meter, setMeter] = useState<Meter>();
  const next = at === meter?.at ? meter : looked(meter, at, counts);
  if (next !== meter) setMeter(next); // React draws again at once, with it
  return next.rates;
}

export function perSecond(r: number | undefined): string {
  if (r === undefined) return "–";
  if (r >= 1000) return `${(r / 1000).toFixed(1)}k/s`;
  return r >= 10 || r === 0 ? `${Math.round(r)}/s` : `${r.toFixed(1)}/s`;
}
