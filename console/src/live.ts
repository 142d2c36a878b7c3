// A live query: its rows as they come, of which the newest are kept to be looked at.
import { useCallback, useEffect, useReducer, useRef } from "react";
import { Problem, runQuery, type Column, type Row } from "./api";

/** How many rows are kept. */
export const shown = 300;
const drawn = 200; // milliseconds between two drawings

export type Live = {
  phase: "empty" | "running" | "ended" | "stopped";
  /** Rows that stay to be looked at while others come: the query is paused. */
  held?: Row[];
  columns: Column[];
  /** The newest first. */
  rows: Row[];
  total: number;
  /** Rows come faster than they can be looked at: some are left out. */
  sampled: boolean;
  problem?: Problem;
};

export const nothing: Live = { phase: "empty", columns: [], rows: [], total: 0, sampled: false };

export type Event =
  | { do: "begin" }
  | { do: "columns"; columns: Column[] }
  | { do: "rows"; rows: Row[] }
  | { do: "pause"; paused: boolean }
  | { do: "end" }
  | { do: "stop" }
  | { do: "fail"; problem: Problem }
  | { do: "reset" };

/** What becomes of a query when something happens to it. */
export function after(l: Live, e: Event): Live {
  switch (e.do) {
    case "begin":
      return { ...nothing, phase: "running" };
    case "reset":
      return nothing;
    case "columns":
      return { ...l, columns: e.columns };
    case "rows":
      return {
        ...l,
        total: l.total + e.rows.length,
        sampled: l.sampled || e.rows.length > shown,
        // Of more than can be looked at, some are shown.
        rows: [...e.rows.slice(-shown).reverse(), ...l.rows].slice(0, shown),
      };
    case "pause":
      return { ...l, held: e.paused ? l.rows : undefined };
    case "end":
      return { ...l, phase: "ended", held: undefined };
    case "stop":
      return l.phase === "running" ? { ...l, phase: "stopped", held: undefined } : l;
    case "fail":
      return { ...nothing, problem: e.problem };
  }
}

/** Runs one query at a time; it ends with the page. */
export function useLiveQuery() {
  const [live, tell] = useReducer(after, nothing);
  const abort = useRef<AbortController>(undefined);
  useEffect(() => () => abort.current?.abort(), []);
  const stop = useCallback(() => abort.current?.abort(), []);
  const run = useCallback(async (sql: string, begin: string) => {
    abort.current?.abort();
    const control = new AbortController();
    abort.current = control;
    const mine = (e: Event) => abort.current === control && tell(e);
    mine({ do: "begin" });
    let waiting: Row[] = [];
    const flush = () => {
      if (waiting.length > 0) mine({ do: "rows", rows: waiting });
      waiting = [];
    };
    const beat = setInterval(flush, drawn);
    try {
      await runQuery(
        sql,
        control.signal,
        {
          columns: (columns) => mine({ do: "columns", columns }),
          rows: (more) => void (waiting = waiting.concat(more)),
          end: () => undefined,
        },
        begin,
      );
      flush();
      mine({ do: "end" });
    } catch (e) {
      flush();
      if (control.signal.aborted) mine({ do: "stop" });
      else mine({ do: "fail", problem: e instanceof Problem ? e : new Problem(0, String(e)) });
    } finally {
      clearInterval(beat);
    }
  }, []);
  const pause = useCallback((paused: boolean) => tell({ do: "pause", paused }), []);
  const reset = useCallback(() => {
    abort.current?.abort();
    abort.current = undefined;
    tell({ do: "reset" });
  }, []);
  return { live, run, stop, pause, reset };
}
