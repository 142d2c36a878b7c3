import { expect, test } from "vitest";
import type { TryResult } from "./api";
import { compared, steps } from "./compare";

const columns = [
  { name: "mat", type: "VARCHAR" },
  { name: "n", type: "BIGINT" },
];
const result = (...rows: [string, number][]) => ({
  columns,
  rows: rows.map(([mat, n]) => ({ mat, n })),
  total: rows.length,
});

test("rows that stayed, came, went and changed are told apart", () => {
  const c = compared(result(["a", 1], ["b", 2], ["c", 3], ["c", 3]), result(["a", 1], ["b", 5], ["c", 3], ["d", 4]));
  expect(c).toMatchObject({
    same: 2,
    gone: [{ mat: "c", n: 3 }],
    come: [{ mat: "d", n: 4 }],
    changed: [{ before: { n: 2 }, now: { n: 5 }, columns: ["n"] }],
    cut: false,
  });
});

test("of several that could be the same thing none is taken for a change", () => {
  const c = compared(result(["a", 1], ["a", 2]), result(["a", 3], ["a", 4]));
  expect(c).toMatchObject({ same: 0, changed: [] });
  expect(c.gone).toHaveLength(2);
  expect(c.come).toHaveLength(2);
});

test("a sink that only one has, a column that came, and rows that were not all shown", () => {
  expect(compared(undefined, result(["a", 1]))).toMatchObject({ same: 0, gone: [], come: [{ mat: "a" }] });
  expect(compared(result(["a", 1]), undefined)).toMatchObject({ gone: [{ mat: "a" }], come: [] });
  const wide = { columns: [...columns, { name: "x", type: "DOUBLE" }], rows: [{ mat: "a", n: 1, x: 0.5 }], total: 9 };
  expect(compared(result(["a", 1]), wide)).toMatchObject({ cut: true, changed: [{ columns: ["x"] }] });
});

test("steps stand side by side", () => {
  const of = (...list: [step: string, kind: string, n: number, filtered: number][]) =>
    ({
      status: {
        steps: list.map(([step, kind, n, filtered], id) => ({
          id,
          step,
          kind,
          detail: "",
          out: n - filtered,
          counts: { in: n, filtered, late: 0, rejected: 0 },
        })),
      },
    }) as unknown as TryResult;
  expect(steps(of(["r", "scan", 9, 0], ["r", "filter", 9, 4]), of(["r", "scan", 9, 0], ["k", "filter", 9, 1]))).toEqual(
    [
      {
        id: "r scan 0",
        step: "r",
        kind: "scan",
        now: { in: 9, out: 9, left: "" },
        before: { in: 9, out: 9, left: "" },
      },
      { id: "k filter 0", step: "k", kind: "filter", now: { in: 9, out: 8, left: "1 filtered" } },
      { id: "r filter 0", step: "r", kind: "filter", before: { in: 9, out: 5, left: "4 filtered" } },
    ],
  );
});
