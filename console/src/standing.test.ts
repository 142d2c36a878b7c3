import { expect, test } from "vitest";
import type { BoardPanel, Update } from "./api";
import {
  bars,
  byTime,
  gapped,
  histogram,
  History,
  listed,
  none,
  outstanding,
  recent,
  stacked,
  stays,
  summary,
  take,
  type Standing,
} from "./standing";

const update = (u: Partial<Update>): Update => ({ panel: 0, rows: [], ...u });
const panel = (p: Partial<BoardPanel>): BoardPanel => ({
  title: "t",
  kind: "table",
  columns: [],
  wide: 6,
  high: 3,
  ...p,
});

test("rows come, take the place of others, and go; all of them begin anew", () => {
  let s = take(
    none,
    update({
      full: true,
      rows: [
        { key: "a", row: { n: 1 } },
        { key: "b", row: { n: 2 } },
      ],
    }),
  );
  s = take(s, update({ rows: [{ key: "a", row: { n: 3 } }, { key: "b" }, { key: "c", row: { n: 4 } }], dropped: 7 }));
  expect([...s.rows]).toEqual([
    ["a", { n: 3 }],
    ["c", { n: 4 }],
  ]);
  expect(s.dropped).toBe(7);
  s = take(s, update({ full: true, rows: [{ key: "x", row: { n: 9 } }], problem: "away" }));
  expect([...s.rows.keys()]).toEqual(["x"]);
  expect(s.problem).toBe("away");
  expect(none.rows.size).toBe(0);
});

test("bars are the newest number of each label, the largest first, as many as are wanted", () => {
  const p = panel({ kind: "bars", label: "l", value: "v", top: 2 });
  const rows = [
    { l: "a", v: 1 },
    { l: "b", v: "5.5" },
    { l: "a", v: 7 },
    { l: "c", v: null },
    { l: "d", v: 2 },
  ];
  expect(bars(p, rows)).toEqual([
    ["a", 7],
    ["b", 5.5],
  ]);
  expect(summary(p, rows)).toBe("t: 2 bars, the largest a with 7");
});

test("lines have a place for each time, also where they have no number, and stand on one another", () => {
  const p = panel({ kind: "series", time: "at", label: "l", value: "v" });
  const t = byTime(p, [
    { at: "2026-05-17T09:01:00Z", l: "b", v: 2 },
    { at: "2026-05-17T09:00:00Z", l: "a", v: 1 },
    { at: "2026-05-17T09:01:00Z", l: "a", v: 3 },
    { at: "nonsense", l: "a", v: 3 },
  ]);
  expect(t.labels).toEqual(["a", "b"]);
  expect(t.times[1]! - t.times[0]!).toBe(60);
  expect(t.values).toEqual([
    [1, 3],
    [null, 2],
  ]);
  expect(stacked(t.values)).toEqual([
    [1, 3],
    [null, 5],
  ]);
});

test("a line ends where nothing came for long", () => {
  expect(gapped([0, 60, 120, 7200, 7260], [[1, 2, 3, 4, 5]])).toEqual({
    times: [0, 60, 120, 180, 7200, 7260],
    values: [[1, 2, 3, null, 4, 5]],
  });
  expect(gapped([], [])).toEqual({ times: [], values: [] });
});

test("tables show the largest, or the newest first; values stand out by thresholds", () => {
  const rows = [{ v: 1 }, { v: 3 }, { v: 2 }];
  expect(listed(panel({}), rows)).toEqual([{ v: 2 }, { v: 3 }, { v: 1 }]);
  expect(listed(panel({ value: "v", top: 2 }), rows)).toEqual([{ v: 3 }, { v: 2 }]);
  expect(outstanding(panel({ above: 3 }), 3)).toBe("above");
  expect(outstanding(panel({ below: 1 }), 2)).toBeUndefined();
  expect(outstanding(panel({ below: 1 }), null)).toBeUndefined();
});

test("a histogram counts each value once, in stretches that begin at round numbers", () => {
  expect(histogram([0, 1, 1.5, 9.9, 10, 19], 10)).toEqual({ low: 0, step: 2, counts: [3, 0, 0, 0, 1, 1, 0, 0, 0, 1] });
  for (const values of [[5], [0, 0], [-3.5, 7], [1e-9, 2e-9], [-1.7e308, 1.7e308], [5e-324, 1e-323]])
    for (const bins of [0, 2, 200]) expect(histogram(values, bins).counts.reduce((a, b) => a + b)).toBe(values.length);
});

test("what has rows and no values has a summary", () => {
  for (const kind of ["histogram", "bars", "areas", "number", "states", "map", "series", "heat", "table"] as const)
    for (const rows of [[{}], [{ v: null, t: null }], [{ v: "x", t: "y" }]])
      expect(
        summary(panel({ kind, value: "v", time: "t", label: "l", across: "v", up: "v", state: "v" }), rows),
      ).toContain(":");
});

test("states last until another one comes, whatever the order of rows", () => {
  const p = panel({ kind: "states", time: "at", label: "mat", state: "load", order: ["quiet", "full"] });
  const row = (minute: number, load: string) => ({ mat: "M", at: `2026-05-17T09:0${minute}:00Z`, load });
  const s = stays(p, [row(3, "full"), row(1, "quiet"), row(2, "quiet"), row(5, "odd")]);
  const at = (minute: number) => Date.parse(`2026-05-17T09:0${minute}:00Z`) / 1000;
  expect(s.states).toEqual(["quiet", "full", "odd"]);
  expect(s.labels).toEqual([
    [
      "M",
      [
        { state: "quiet", from: at(1), to: at(3) },
        { state: "full", from: at(3), to: at(5) },
        { state: "odd", from: at(5) },
      ],
    ],
  ]);
});

test("only the last stretch of event time is left", () => {
  const rows = [1, 2, 3, 9].map((m) => ({ at: `2026-05-17T09:0${m}:00Z` }));
  expect(recent(panel({ kind: "series", time: "at" }), rows, 6 * 60)).toEqual([rows[2], rows[3]]);
  expect(recent(panel({ kind: "bars" }), rows, 60)).toEqual(rows);
});

test("what was shown earlier can be gone back to, as far as changes are kept", () => {
  const h = new History(2, 20);
  const now = [none, none];
  const was: string[] = [];
  const text = (s: Standing[]) => JSON.stringify(s.map((x) => [...x.rows]));
  for (let i = 0; i < 60; i++) {
    const u = { panel: i % 2, rows: [{ key: `k${i % 5}`, row: i % 7 === 3 ? undefined : { i } }], full: i % 20 === 0 };
    h.add(u, i);
    now[u.panel] = take(now[u.panel]!, u);
    was.push(text(now));
  }
  const [from, to] = h.span;
  expect(to).toBe(59);
  expect(from).toBeGreaterThan(40);
  for (let t = from; t <= to; t++) expect(text(h.at(t))).toBe(was[t]);
});
