import { expect, test } from "vitest";
import { Problem } from "./api";
import { after, nothing, shown, type Event, type Live } from "./live";

const through = (events: Event[], from: Live = nothing) => events.reduce(after, from);
const rows = (from: number, n: number) => Array.from({ length: n }, (_, i) => ({ n: from + i }));

test("the newest rows stand first, and all are counted", () => {
  const l = through([{ do: "begin" }, { do: "rows", rows: rows(0, 2) }, { do: "rows", rows: rows(2, 2) }]);
  expect(l.rows.map((r) => r.n)).toEqual([3, 2, 1, 0]);
  expect(l.total).toBe(4);
  expect(l.sampled).toBe(false);
});

test("of more rows than can be looked at the newest are kept, and it is said", () => {
  const l = through([{ do: "begin" }, { do: "rows", rows: rows(0, 5 * shown) }]);
  expect(l.rows).toHaveLength(shown);
  expect(l.rows[0]).toEqual({ n: 5 * shown - 1 });
  expect(l.total).toBe(5 * shown);
  expect(l.sampled).toBe(true);
  expect(through([{ do: "rows", rows: rows(0, 1) }], l).sampled).toBe(true);
});

test("a pause holds what is looked at while rows go on coming", () => {
  const paused = through([
    { do: "begin" },
    { do: "rows", rows: rows(0, 1) },
    { do: "pause", paused: true },
    { do: "rows", rows: rows(1, 1) },
  ]);
  expect(paused.held).toEqual([{ n: 0 }]);
  expect(paused.total).toBe(2);
  const on = after(paused, { do: "pause", paused: false });
  expect(on.held).toBeUndefined();
  expect(on.rows.map((r) => r.n)).toEqual([1, 0]);
});

test("a query ends, is stopped or fails; what is stopped twice stays what it was", () => {
  const run = through([{ do: "begin" }, { do: "rows", rows: rows(0, 1) }]);
  expect(after(run, { do: "end" })).toMatchObject({ phase: "ended", total: 1 });
  expect(after(run, { do: "stop" })).toMatchObject({ phase: "stopped", total: 1 });
  expect(after(after(run, { do: "end" }), { do: "stop" }).phase).toBe("ended");
  const failed = after(run, { do: "fail", problem: new Problem(400, "no") });
  expect(failed).toMatchObject({ phase: "empty", rows: [] });
  expect(failed.problem?.message).toBe("no");
  expect(after(failed, { do: "begin" }).problem).toBeUndefined();
});
