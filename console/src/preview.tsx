// Real rows of what stands on the canvas.
import { useEffect, useState } from "react";
import { api, problemOf, type Row, type TryResult } from "./api";
import { Part } from "./fields";
import { say } from "./i18n";
import { useLiveQuery } from "./live";
import { Button, cell, count, Fault, Rows, Scroll } from "./parts";

/** Real rows: what comes in, what goes out, and what was left out and why; tried to the end, or live. */
export function Preview({
  query,
  before,
  step,
  reads,
  named = true,
  wrong,
  onRows,
}: {
  query: string;
  before: string;
  step: string;
  reads: string[];
  /** Whether the query has a name for it: without one, what it does is counted as of what it reads. */
  named?: boolean;
  wrong: boolean;
  onRows?: (rows: Record<string, number>) => void;
}) {
  const [tried, setTried] = useState<TryResult>();
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);
  const [side, setSide] = useState<"out" | "in">("out");
  const { live, run, stop, reset } = useLiveQuery();
  const declared = /\bDECLARE\b|\bCREATE\s+(OR\s+REPLACE\s+)?(VIEW|FUNCTION)\b/i.test(before);
  useEffect(() => {
    if (wrong || !query) return;
    let on = true;
    const wait = setTimeout(() => {
      setBusy(true);
      api
        .tryIt({ sql: `${before}\n${query}`, file: "preview", rows: 50, seconds: 4 })
        .then(
          (r) => {
            if (!on) return;
            setTried(r);
            setProblem("");
            const rows: Record<string, number> = {};
            for (const s of r.status.steps) if (s.step !== "result") rows[s.step] = s.out;
            const last = r.status.steps.find((s) => s.step === "result");
            if (last) rows[step] = r.results[0]?.total ?? last.out;
            onRows?.(rows);
          },
          (e: unknown) => on && setProblem(problemOf(e)!.message),
        )
        .finally(() => on && setBusy(false));
    }, 300);
    return () => {
      on = false;
      clearTimeout(wait);
    };
  }, [query, before, wrong, step, onRows]);
  if (wrong) return null;
  const running = live.phase === "running";
  const of = live.phase !== "empty" ? undefined : tried;
  const mine =
    tried?.status.steps.filter((s) => s.step === step || (!named && s.kind !== "scan" && reads.includes(s.step))) ?? [];
  const sum = (f: (c: (typeof mine)[number]["counts"]) => number) => mine.reduce((n, s) => n + f(s.counts), 0);
  const left = [
    [sum((c) => c.filtered), "kept out by conditions"],
    [sum((c) => c.absorbed), "counted in groups"],
    [sum((c) => c.late), "late"],
    [sum((c) => c.rejected), "rejected"],
    [sum((c) => c.held), "held back for now"],
  ].filter(([n]) => (n as number) > 0);
  const out = live.phase !== "empty" ? live.rows : ((of?.results[0]?.rows ?? []) as Row[]);
  const ins = reads.flatMap((r) => {
    const s = tried?.status.steps.filter((x) => x.step === r);
    const last = s?.[s.length - 1];
    return last ? (tried!.shown[String(last.id)] ?? []).map((x) => JSON.parse(x) as Row) : [];
  });
  const rows = side === "in" ? ins : out;
  const columns = [...new Set(rows.slice(0, 20).flatMap((r) => Object.keys(r)))];
  return (
    <Part
      title={say("Rows")}
      aside={
        <span className="flex items-center gap-1 font-normal">
          {busy && <span className="text-soft">{say("looking …")}</span>}
          {reads.length > 0 && (
            <>
              <Button small testid="rows-in" kind={side === "in" ? "main" : "plain"} onClick={() => setSide("in")}>
                {say("In")}
              </Button>
              <Button small testid="rows-out" kind={side === "out" ? "main" : "plain"} onClick={() => setSide("out")}>
                {say("Out")}
              </Button>
            </>
          )}
          <Button
            small
            testid="rows-live"
            disabled={declared}
            onClick={() => {
              setSide("out");
              if (running) stop();
              else if (live.phase !== "empty") reset();
              else void run(query, "NOW");
            }}
          >
            {running ? say("Pause") : live.phase !== "empty" ? say("To the end") : say("Live")}
          </Button>
        </span>
      }
    >
      {problem && <Fault>{problem}</Fault>}
      {live.problem && <Fault>{live.problem.message}</Fault>}
      {tried && live.phase === "empty" && (
        <p className="text-xs text-soft" data-testid="preview-counts">
          {side === "out"
            ? say("{{0}} rows come out", { 0: count(tried.results[0]?.total ?? 0) })
            : say("the first rows of {{0}}", { 0: reads.join(" and ") })}
          {left.length > 0 && `; ${left.map(([n, w]) => `${count(n as number)} ${w as string}`).join(", ")}`}
          {tried.reasons.length > 0 && `: ${tried.reasons.map((r) => r.class).join("; ")}`}
          {tried.stopped ? `; ${tried.stopped}` : ""}
        </p>
      )}
      {rows.length === 0 ? (
        <p className="py-2 text-center text-xs text-soft">
          {busy || running ? say("waiting for rows …") : say("no rows yet")}
        </p>
      ) : (
        <Scroll className="max-h-64 rounded-md border border-line">
          <Rows
            testid="preview"
            of={rows.slice(0, 30)}
            id={(_, i) => i}
            columns={columns.map((c) => ({ head: c, mono: true, of: (r: Row) => cell(r[c]) }))}
          />
        </Scroll>
      )}
    </Part>
  );
}
