import { useEffect, useRef, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, Problem, runQuery, type Column, type FunctionEntry, type Row } from "./api";
import { Button, cell, count, Empty, Fault, Sheet, Td, Th } from "./parts";

const kept = 500;
const shelf = [
  { label: "Newest reads", sql: "SELECT chip, mat, read_at, rssi\nFROM reads\nWHERE rssi > -60" },
  { label: "Reads by mat", sql: "SELECT mat, w.opens AS opened, COUNT(*) AS reads, AVG(rssi) AS avg_rssi\nFROM reads SINCE BEGINNING\nGROUP BY mat, w\nWINDOW w AS (TUMBLING 1 MINUTE)" },
  { label: "Weak batteries", sql: "SELECT device.serial, device.battery, mat\nFROM reads\nWHERE device.battery < 0.3\nLIMIT 50" },
];

/** The word that ends at the cursor, where it may be the beginning of a function's name. */
function wordBefore(text: string, at: number) {
  return /[A-Za-z_][A-Za-z_0-9]*$/.exec(text.slice(0, at))?.[0] ?? "";
}

type Phase = "empty" | "running" | "ended" | "stopped";

export function QueryPage() {
  const [sql, setSql] = useState(() => localStorage.getItem("query") ?? shelf[0]!.sql);
  const [columns, setColumns] = useState<Column[]>([]);
  const [rows, setRows] = useState<{ id: number; row: Row }[]>([]);
  const [total, setTotal] = useState(0);
  const [phase, setPhase] = useState<Phase>("empty");
  const [problem, setProblem] = useState<Problem>();
  const abort = useRef<AbortController>(undefined);
  const functions = useQuery({ queryKey: ["functions"], queryFn: api.functions, staleTime: 60_000 });
  const box = useRef<HTMLTextAreaElement>(null);
  const [word, setWord] = useState("");
  const found = word.length < 2 ? [] : (functions.data ?? []).filter((f) => f.name.startsWith(word.toLowerCase())).slice(0, 5);
  const look = () => setWord(box.current ? wordBefore(box.current.value, box.current.selectionStart) : "");
  const complete = (f: FunctionEntry) => {
    const at = box.current?.selectionStart ?? sql.length;
    const text = f.name.toUpperCase() + "(";
    const from = at - word.length;
    setSql(sql.slice(0, from) + text + sql.slice(at));
    setWord("");
    requestAnimationFrame(() => { box.current?.focus(); box.current?.setSelectionRange(from + text.length, from + text.length); });
  };
  useEffect(() => localStorage.setItem("query", sql), [sql]);
  useEffect(() => () => abort.current?.abort(), []);

  const stop = () => abort.current?.abort();
  const run = async () => {
    stop();
    const control = new AbortController();
    abort.current = control;
    setColumns([]); setRows([]); setTotal(0); setProblem(undefined); setPhase("running");
    let n = 0;
    try {
      await runQuery(sql.trim().replace(/;\s*$/, ""), control.signal, {
        columns: setColumns,
        rows: (more) => {
          const next = more.map((row) => ({ id: n++, row }));
          setTotal(n);
          setRows((old) => [...next.reverse(), ...old].slice(0, kept));
        },
        end: () => {},
      });
      if (abort.current === control) setPhase("ended");
    } catch (e) {
      if (control.signal.aborted) {
        if (abort.current === control) setPhase("stopped");
        return;
      }
      setProblem(e instanceof Problem ? e : new Problem(0, "The service does not answer. Is fiume serve still running?"));
      setPhase("stopped");
    }
  };
  const keys = (e: React.KeyboardEvent) => {
    if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) { e.preventDefault(); void run(); }
    if (e.key === "Tab" && found[0] && !e.shiftKey) { e.preventDefault(); complete(found[0]); }
    if (e.key === "Escape" && found.length > 0) setWord("");
    else if (e.key === "Escape" && phase === "running") stop();
  };
  const right = (c: Column) => /^(INT|BIGINT|DOUBLE|DECIMAL.*)$/.test(c.type);
  return (
    <div className="space-y-4">
      <div className="flex items-center gap-3">
        <h1 className="text-xl font-semibold">Query</h1>
        <div className="ml-auto flex items-center gap-2 text-xs text-soft">
          Fill in:
          {shelf.map((s) => (
            <button key={s.label} type="button" onClick={() => setSql(s.sql)} className="cursor-pointer rounded-full border border-line bg-sheet px-2.5 py-1 hover:text-ink">{s.label}</button>
          ))}
        </div>
      </div>
      <section className="rounded-lg border border-line bg-sheet">
        <label htmlFor="sql" className="sr-only">SQL</label>
        <textarea id="sql" ref={box} value={sql} onChange={(e) => { setSql(e.target.value); look(); }} onClick={() => setWord("")} onKeyDown={keys} spellCheck={false} rows={Math.min(16, Math.max(5, sql.split("\n").length + 1))}
          className="block w-full resize-y rounded-t-lg bg-transparent p-4 font-mono text-sm leading-relaxed" />
        {found.length > 0 && (
          <ul className="border-t border-line px-4 py-2 text-xs" data-testid="completions">
            {found.map((f, i) => (
              <li key={f.name}>
                <button type="button" onClick={() => complete(f)} className="flex w-full cursor-pointer items-baseline gap-3 py-0.5 text-left hover:text-ink">
                  <code className="shrink-0 font-mono">{f.signatures[0]}</code>
                  <span className="truncate text-soft">{f.gives}</span>
                  {i === 0 && <kbd className="ml-auto rounded border border-line px-1 text-soft">Tab</kbd>}
                </button>
              </li>
            ))}
          </ul>
        )}
        <div className="flex items-center gap-3 border-t border-line px-4 py-2.5">
          <Button testid="run" kind="main" onClick={() => void run()} disabled={!sql.trim()}>Run</Button>
          <Button testid="stop" onClick={stop} disabled={phase !== "running"}>Stop</Button>
          <span className="text-xs text-soft">Ctrl+Enter runs, Esc stops. Topics are read from now on; write SINCE BEGINNING to read what is there.</span>
        </div>
      </section>
      {problem && <Fault>{problem.message}</Fault>}
      {phase !== "empty" && !problem && (
        <Sheet title={phase === "running" ? "Rows, as they come" : phase === "ended" ? "All rows have come" : "Stopped"}
          aside={<span data-testid="total">{count(total)} rows{total > kept ? `, the newest ${kept} shown` : ""}</span>}>
          {columns.length > 0 && rows.length > 0 ? (
            <table className="w-full" data-testid="rows">
              <thead><tr>{columns.map((c) => <Th key={c.name} right={right(c)}>{c.name} <span className="font-normal text-soft/70">{c.type.toLowerCase()}</span></Th>)}</tr></thead>
              <tbody>{rows.map(({ id, row }) => <tr key={id}>{columns.map((c) => <Td key={c.name} mono right={right(c)}>{cell(row[c.name])}</Td>)}</tr>)}</tbody>
            </table>
          ) : (
            <Empty>{phase === "running" ? "Waiting for rows …" : "There were no rows."}</Empty>
          )}
        </Sheet>
      )}
    </div>
  );
}
