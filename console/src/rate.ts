import { useRef } from "react";

/** Turns growing counts into rates a second, smoothed over the last few looks. */
export function useRates(counts: Record<string, number>): Record<string, number> {
  const last = useRef<{ at: number; counts: Record<string, number>; rates: Record<string, number> }>(undefined);
  const now = performance.now();
  const before = last.current;
  if (!before) {
    last.current = { at: now, counts, rates: {} };
    return {};
  }
  const seconds = (now - before.at) / 1000;
  if (seconds < 0.5) return before.rates;
  const rates: Record<string, number> = {};
  for (const [k, v] of Object.entries(counts)) {
    const was = before.counts[k];
    if (was === undefined) continue;
    const r = Math.max(0, (v - was) / seconds);
    const smooth = before.rates[k];
    rates[k] = smooth === undefined ? r : 0.5 * r + 0.5 * smooth;
  }
  last.current = { at: now, counts, rates };
  return rates;
}

export function perSecond(r: number | undefined): string {
  if (r === undefined) return "–";
  if (r >= 1000) return `${(r / 1000).toFixed(1)}k/s`;
  return r >= 10 || r === 0 ? `${Math.round(r)}/s` : `${r.toFixed(1)}/s`;
}
