// What the panels of a board show: the rows as they stand, kept as changes are told.
import type { BoardPanel, Row, Update } from "./api";

/** The rows of a panel by their keys, the newest change last. */
export type Standing = {
  rows: Map<string, Row>;
  dropped: number;
  late: number;
  rejected: number;
  problem?: string;
};

export const none: Standing = { rows: new Map(), dropped: 0, late: 0, rejected: 0 };

/** What a panel shows after an update. The rows are changed in place: a board may get thousands of changes a second. */
export function take(now: Standing, u: Update): Standing {
  const rows = u.full || now === none ? new Map<string, Row>() : now.rows;
  for (const r of u.rows) {
    rows.delete(r.key);
    if (r.row) rows.set(r.key, r.row as Row);
  }
  return { rows, dropped: u.dropped ?? 0, late: u.late ?? 0, rejected: u.rejected ?? 0, problem: u.problem };
}

export const numeric = (v: unknown): number | null => {
  const n = v === null || v === undefined ? NaN : Number(v);
  return Number.isFinite(n) ? n : null;
};

/** Whether a value stands out by the panel's thresholds, and how. */
export function outstanding(p: BoardPanel, v: number | null): "above" | "below" | undefined {
  if (v === null) return undefined;
  if (p.above !== undefined && v >= p.above) return "above";
  if (p.below !== undefined && v <= p.below) return "below";
  return undefined;
}

/** The newest number of each label, the largest first. */
export function bars(p: BoardPanel, rows: Iterable<Row>): [string, number][] {
  const newest = new Map<string, number>();
  for (const r of rows) {
    const v = numeric(r[p.value ?? ""]);
    if (v !== null) newest.set(String(r[p.label ?? ""]), v);
  }
  const all = [...newest].sort(([a, x], [b, y]) => y - x || a.localeCompare(b));
  return all.slice(0, p.top || (p.kind === "areas" ? 300 : 30));
}

/** Numbers by time and label: times are seconds since 1970, in order, labels by their names. */
export function byTime(p: BoardPanel, rows: Iterable<Row>) {
  const cells = new Map<string, Map<number, number>>();
  const seen = new Set<number>();
  for (const r of rows) {
    const at = Date.parse(String(r[p.time ?? ""])) / 1000;
    const v = numeric(r[p.value ?? ""]);
    if (Number.isNaN(at) || v === null) continue;
    const label = p.label ? String(r[p.label]) : (p.value ?? "");
    let of = cells.get(label);
    if (!of) cells.set(label, (of = new Map()));
    of.set(at, v);
    seen.add(at);
  }
  const times = [...seen].sort((a, b) => a - b);
  const labels = [...cells.keys()].sort((a, b) => a.localeCompare(b));
  return {
    times,
    labels,
    values: labels.map((l) => times.map((t) => cells.get(l)!.get(t) ?? null)),
  };
}

/** Has lines end where nothing came for long, and begin again behind that. */
export function gapped(times: number[], values: (number | null)[][]): { times: number[]; values: (number | null)[][] } {
  const steps = times.slice(1).map((t, i) => t - times[i]!);
  const usual = [...steps].sort((a, b) => a - b)[Math.floor(steps.length / 2)] ?? 0;
  const out = { times: [] as number[], values: values.map(() => [] as (number | null)[]) };
  times.forEach((t, i) => {
    if (i > 0 && usual > 0 && t - times[i - 1]! > 10 * usual) {
      out.times.push(times[i - 1]! + usual);
      out.values.forEach((v) => v.push(null));
    }
    out.times.push(t);
    out.values.forEach((v, k) => v.push(values[k]![i]!));
  });
  return out;
}

/** Numbers that stand on one another: each is the sum of those before it and itself. */
export function stacked(values: (number | null)[][]): (number | null)[][] {
  const sums = new Map<number, number>();
  return values.map((line) =>
    line.map((v, i) => {
      if (v === null) return null;
      const sum = (sums.get(i) ?? 0) + v;
      sums.set(i, sum);
      return sum;
    }),
  );
}

/** The rows of a table: the largest of a number first, or the newest. */
export function listed(p: BoardPanel, rows: Iterable<Row>): Row[] {
  const all = [...rows].reverse();
  if (p.value) all.sort((a, b) => (numeric(b[p.value!]) ?? -Infinity) - (numeric(a[p.value!]) ?? -Infinity));
  return all.slice(0, p.top || 100);
}

/** Values counted in stretches of equal length that begin at round numbers; the same as the service's. */
export function histogram(values: number[], bins: number): { low: number; step: number; counts: number[] } {
  let least = Infinity,
    most = -Infinity;
  for (const v of values) {
    least = Math.min(least, v);
    most = Math.max(most, v);
  }
  if (values.length === 0) return { low: 0, step: 1, counts: [] };
  if (!bins) bins = Math.min(40, Math.ceil(Math.log2(values.length)) + 1);
  let step = 1;
  if (most > least) {
    const length = most / bins - least / bins;
    step = roundStep(length);
    if (!(step > 0) || !Number.isFinite(step)) step = Math.max(length, Number.MIN_VALUE);
  }
  const low = Math.floor(least / step) * step;
  const n = Math.min(Math.max(Math.floor(most / step - low / step) + 1, 1), 2 * bins + 2);
  const counts = new Array<number>(n).fill(0);
  for (const v of values) counts[Math.max(0, Math.min(Math.floor(v / step - low / step), n - 1))]!++;
  return { low, step, counts };
}

function roundStep(x: number): number {
  const power = 10 ** Math.floor(Math.log10(x));
  for (const f of [1, 2, 2.5, 5]) if (f * power >= x * (1 - 1e-9)) return f * power;
  return 10 * power;
}

/** How long a label stays in a state: from and to are seconds since 1970; the last one has no end yet. */
export type Stay = { state: string; from: number; to?: number };

/** The stays of each label in the order of time, labels by their names; end is the newest time of all. */
export function stays(
  p: BoardPanel,
  rows: Iterable<Row>,
): { labels: [string, Stay[]][]; states: string[]; from: number; end: number } {
  const by = new Map<string, Map<number, string>>();
  const states = new Set<string>();
  let from = Infinity,
    end = -Infinity;
  for (const r of rows) {
    const at = Date.parse(String(r[p.time ?? ""])) / 1000;
    const state = r[p.state ?? ""];
    if (Number.isNaN(at) || state === null || state === undefined) continue;
    const label = String(r[p.label ?? ""]);
    let of = by.get(label);
    if (!of) by.set(label, (of = new Map()));
    of.set(at, String(state));
    states.add(String(state));
    from = Math.min(from, at);
    end = Math.max(end, at);
  }
  const labels = [...by]
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([label, of]): [string, Stay[]] => {
      const list: Stay[] = [];
      for (const [at, state] of [...of].sort(([a], [b]) => a - b)) {
        const last = list[list.length - 1];
        if (last?.state === state) continue;
        if (last) last.to = at;
        list.push({ state, from: at });
      }
      return [label, list];
    });
  const order = p.order ?? [];
  const at = (s: string) => (order.includes(s) ? order.indexOf(s) : order.length);
  return { labels, states: [...states].sort((a, b) => at(a) - at(b) || a.localeCompare(b)), from, end };
}

/** A place on a plane, with what it is called and its number. */
export type Place = { label: string; across: number; up: number; value: number | null };

/** The newest place of each label, or all where the panel has no labels. */
export function places(p: BoardPanel, rows: Iterable<Row>): Place[] {
  const newest = new Map<string, Place>();
  for (const r of rows) {
    const across = numeric(r[p.across ?? ""]),
      up = numeric(r[p.up ?? ""]);
    if (across === null || up === null) continue;
    const label = p.label ? String(r[p.label]) : `${across}, ${up}`;
    newest.set(label, { label, across, up, value: p.value ? numeric(r[p.value]) : null });
  }
  return [...newest.values()].sort((a, b) => a.label.localeCompare(b.label));
}

/** Only the rows of a panel that are in the last stretch of time before its newest, seconds; 0: all. */
export function recent(p: BoardPanel, rows: Row[], seconds: number): Row[] {
  if (!seconds || !p.time) return rows;
  const at = (r: Row) => Date.parse(String(r[p.time!])) / 1000;
  let newest = -Infinity;
  for (const r of rows) {
    const t = at(r);
    if (t > newest) newest = t;
  }
  return rows.filter((r) => !(at(r) < newest - seconds));
}

/** What a board showed at earlier times, as far as changes are kept. */
export class History {
  private base: Standing[];
  private log: { at: number; update: Update }[] = [];
  private rows = 0;
  private most: number;

  constructor(panels: number, most = 50_000) {
    this.base = Array.from({ length: panels }, () => none);
    this.most = most;
  }

  add(update: Update, at: number) {
    this.log.push({ at, update });
    this.rows += update.rows.length + 1;
    while (this.rows > this.most && this.log.length > 1) {
      const oldest = this.log.shift()!;
      this.rows -= oldest.update.rows.length + 1;
      const panel = oldest.update.panel;
      this.base[panel] = take(this.base[panel]!, oldest.update);
    }
  }

  /** The oldest and the newest time that can be gone back to. */
  get span(): [number, number] {
    return this.log.length === 0 ? [0, 0] : [this.log[0]!.at, this.log[this.log.length - 1]!.at];
  }

  at(time: number): Standing[] {
    const out = this.base.map((s) => ({ ...s, rows: new Map(s.rows) }));
    for (const { at, update } of this.log) {
      if (at > time) break;
      out[update.panel] = take(out[update.panel]!, update);
    }
    return out;
  }
}

/** A summary in words, for whoever does not see the drawing. */
export function summary(p: BoardPanel, rows: Row[]): string {
  if (rows.length === 0) return `${p.title}: no rows yet`;
  const unit = p.unit ? ` ${p.unit}` : "";
  if (p.kind === "number") return `${p.title}: ${numeric(rows[rows.length - 1]![p.value ?? ""]) ?? "none"}${unit}`;
  if (p.kind === "histogram") {
    const h = histogram(
      rows.map((r) => numeric(r[p.value ?? ""])).filter((v) => v !== null),
      p.bins ?? 0,
    );
    if (h.counts.length === 0) return `${p.title}: no numbers yet`;
    const most = h.counts.indexOf(Math.max(...h.counts));
    return `${p.title}: ${h.counts.length} stretches, most values from ${h.low + most * h.step} to ${h.low + (most + 1) * h.step}${unit}`;
  }
  if (p.kind === "states") {
    const now = stays(p, rows).labels.map(([label, list]) => `${label} ${list[list.length - 1]!.state}`);
    return `${p.title}: ${now.slice(0, 20).join(", ")}`;
  }
  if (p.kind === "map") return `${p.title}: ${places(p, rows).length} places`;
  if (p.kind === "bars" || p.kind === "areas") {
    const most = bars(p, rows);
    if (most.length === 0) return `${p.title}: no numbers yet`;
    return `${p.title}: ${most.length} ${p.kind}, the largest ${most[0]?.[0]} with ${most[0]?.[1]}${unit}`;
  }
  if (p.kind === "series" || p.kind === "heat") {
    const t = byTime(p, rows);
    return `${p.title}: ${t.labels.length} lines over ${t.times.length} times`;
  }
  return `${p.title}: ${rows.length} rows`;
}
