// What differs between the rows of two tries.
import { locale } from "./i18n";
import type { Column, Row, TryResult } from "./api";
import { isNumber } from "./sql";

/** A row of both tries that is the same thing with other numbers. */
export type Changed = { before: Row; now: Row; columns: string[] };
export type Compared = {
  columns: Column[];
  same: number;
  gone: Row[];
  come: Row[];
  changed: Changed[];
  /** Not all rows were shown, so that not all were compared. */
  cut: boolean;
};

type Result = TryResult["results"][number];

/** Compares the rows of a result; rows are the same thing where all is equal that is no number. */
export function compared(before: Result | undefined, now: Result | undefined): Compared {
  const columns = [...(now?.columns ?? [])];
  for (const c of before?.columns ?? []) if (!columns.some((x) => x.name === c.name)) columns.push(c);
  const names = columns.map((c) => c.name);
  const text = (r: Row) => JSON.stringify(names.map((n) => r[n] ?? null));
  const left = new Map<string, Row[]>();
  for (const r of (before?.rows ?? []) as Row[]) {
    const t = text(r);
    left.set(t, [...(left.get(t) ?? []), r]);
  }
  let same = 0;
  let come: Row[] = [];
  for (const r of (now?.rows ?? []) as Row[]) {
    const list = left.get(text(r));
    if (list && list.length > 0) {
      list.pop();
      same++;
    } else come.push(r);
  }
  let gone = [...left.values()].flat();
  const both = (now?.columns ?? []).filter((c) => before?.columns.some((x) => x.name === c.name));
  const of = both.filter((c) => !isNumber(c.type)).map((c) => c.name);
  const id = (r: Row) => JSON.stringify(of.map((n) => r[n] ?? null));
  const single = (rows: Row[]) => {
    const m = new Map<string, Row | null>();
    for (const r of rows) m.set(id(r), m.has(id(r)) ? null : r);
    return m;
  };
  const changed: Changed[] = [];
  if (of.length > 0) {
    const a = single(gone),
      b = single(come);
    for (const [k, x] of a) {
      const y = b.get(k);
      if (!x || !y) continue;
      changed.push({
        before: x,
        now: y,
        columns: names.filter((n) => JSON.stringify(x[n] ?? null) !== JSON.stringify(y[n] ?? null)),
      });
    }
    const pairs = new Set(changed.flatMap((c) => [c.before, c.now]));
    gone = gone.filter((r) => !pairs.has(r));
    come = come.filter((r) => !pairs.has(r));
  }
  const cut = [before, now].some((r) => r !== undefined && r.total > r.rows.length);
  return { columns, same, gone, come, changed, cut };
}

/** What a step did in one of two tries. */
export type StepNumbers = { in: number; out: number; left: string };
export type StepPair = { step: string; kind: string; before?: StepNumbers; now?: StepNumbers };

const numbers = (s: TryResult["status"]["steps"][number]): StepNumbers => ({
  in: s.counts.in,
  out: s.out,
  left: (
    [
      [s.counts.filtered, "filtered"],
      [s.counts.late, "late"],
      [s.counts.rejected, "rejected"],
    ] as const
  )
    .filter(([n]) => n > 0)
    .map(([n, w]) => `${n.toLocaleString(locale)} ${w}`)
    .join(", "),
});

/** The steps of two tries, side by side; the nth of a kind in a step is the nth of the other. */
export function steps(before: TryResult, now: TryResult): StepPair[] {
  const out: (StepPair & { id: string })[] = [];
  const put = (r: TryResult, side: "before" | "now") => {
    const seen = new Map<string, number>();
    for (const s of r.status.steps) {
      if (s.kind === "side" || (s.table && s.counts.in === 0)) continue;
      const of = `${s.step} ${s.kind}`;
      const n = seen.get(of) ?? 0;
      seen.set(of, n + 1);
      const id = `${of} ${n}`;
      let pair = out.find((p) => p.id === id);
      if (!pair) out.push((pair = { id, step: s.step, kind: s.kind }));
      pair[side] = numbers(s);
    }
  };
  put(now, "now");
  put(before, "before");
  return out;
}
