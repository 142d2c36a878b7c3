import { expect, test } from "vitest";
import type { Drawing } from "./api";
import {
  begun,
  calledThen,
  conditionOf,
  cutAtCommas,
  doings,
  drawnOf,
  emptyBlock,
  free,
  holds,
  named,
  plain,
  shownSteps,
  withChanged,
  withoutSink,
  withoutStep,
  withRoute,
  withRouteChanged,
  withStep,
} from "./drawing";
import { sqlName, sqlPath } from "./sql";

const empty: Drawing = { job: false, steps: [], routes: [], set: [] };
const columns = [
  { name: "chip", type: "VARCHAR" },
  { name: "rssi", type: "DOUBLE" },
  { name: "tags", type: "ARRAY(VARCHAR)" },
  { name: "read_at", type: "TIMESTAMP" },
];

/** A drawing as the service gives it back: steps know what they read. */
const read = (d: Drawing): Drawing => ({
  ...d,
  steps: d.steps.map((s) => ({
    ...s,
    reads: s.blocks.flatMap((b) => [b.from.name!, ...b.joins.flatMap((j) => j.with.name ?? [])]),
  })),
});

test("plain conditions are read and written", () => {
  const types: Record<string, string> = {
    chip: "VARCHAR",
    rssi: "DOUBLE",
    read_at: "TIMESTAMP",
    ok: "BOOLEAN",
    '"Odd one"': "VARCHAR",
  };
  for (const text of [
    "chip = 'it''s'",
    "rssi >= -60.5",
    "chip IS NOT NULL",
    "ok IS TRUE",
    "read_at >= TIMESTAMP '2026-05-17 09:00:00'",
    `"Odd one" LIKE '%x'`,
  ]) {
    const p = plain(text)!;
    expect(p, text).toBeDefined();
    expect(conditionOf(p, types[p.column]!)).toBe(text);
  }
  for (const text of [
    "rssi + 1 > 2",
    "a = 1 OR b = 2",
    "upper(chip) = 'X'",
    "chip IN ('a')",
    "chip = 'a' AND rssi > 1",
    "NOT a",
  ])
    expect(plain(text), text).toBeUndefined();
  // What is typed for a number cannot become more than one.
  expect(conditionOf({ column: "rssi", is: ">", value: "1 OR TRUE" }, "DOUBLE")).toBe("rssi > 0");
});

test("a query that leads to a sink becomes a job, and one that leads nowhere is none", () => {
  let d = read(withStep(empty, "kept", emptyBlock("reads")));
  d = withRoute(d, "kept", "far", "rssi > 1", "j");
  expect(d).toMatchObject({
    job: true,
    name: "j",
    routes: [{ step: "kept", branches: [{ where: "rssi > 1", sinks: ["far"] }] }],
  });
  d = withRoute(d, "kept", "others");
  d = withRoute(d, "kept", "more");
  d = withRoute(d, "kept", "strong", "rssi > 9");
  // All that is left goes last, whatever is added.
  expect(d.routes[0]!.branches).toEqual([
    { where: "rssi > 1", sinks: ["far"] },
    { where: "rssi > 9", sinks: ["strong"] },
    { where: undefined, sinks: ["others", "more"] },
  ]);
  d = withRouteChanged(d, 0, { ...d.routes[0]!, branches: [...d.routes[0]!.branches].reverse() });
  expect(d.routes[0]!.branches.map((b) => b.where)).toEqual(["rssi > 9", "rssi > 1", undefined]);
  for (const sink of ["far", "others", "more"]) d = withoutSink(d, sink);
  expect(d.routes[0]!.branches).toHaveLength(1);
  expect(withoutSink(d, "strong")).toMatchObject({ job: false, routes: [] });
});

test("a last query without a name gets one where another follows", () => {
  const query: Drawing = {
    ...empty,
    steps: [{ name: "", query: "", blocks: [{ ...emptyBlock("reads"), where: [{ expr: "rssi > 1" }] }] }],
  };
  expect(calledThen(query, "result")).toBe("result");
  expect(named(query).steps[0]!.name).toBe("result");
  const passing: Drawing = read({
    ...empty,
    steps: [
      { name: "kept", query: "", blocks: [emptyBlock("reads")] },
      { name: "", query: "", blocks: [emptyBlock("kept")] },
    ],
  });
  expect(shownSteps(passing).map((s) => s.name)).toEqual(["kept"]);
  expect(named(passing).steps.map((s) => s.name)).toEqual(["kept"]);
  const short: Drawing = { ...query, job: true, name: "j", routes: [{ step: "j", branches: [{ sinks: ["x"] }] }] };
  expect(named(short)).toMatchObject({ steps: [{ name: "j" }], routes: [{ step: "j" }] });
});

test("what reads a step goes with its name, and holds it", () => {
  let d = read(withStep(withStep(empty, "a", emptyBlock("reads")), "b", emptyBlock("a")));
  d = withRoute(d, "a", "out", "", "j");
  d = withChanged(d, 0, { name: "first" });
  expect(d.steps[1]!.blocks[0]!.from).toEqual({ name: "first", alias: "a" });
  expect(d.routes[0]!.step).toBe("first");
  d = read(d);
  expect(holds(d, 0)).toBe("b reads it");
  expect(holds(d, 1)).toBe("");
  expect(withoutStep(d, 1).steps).toHaveLength(1);
  expect(free(d, "first")).toBe("first_2");
  expect(free(d, "reads")).toBe("reads_2");
});

test("each doing begins with something, or says what is missing", () => {
  const others = [
    {
      name: "calls",
      kind: "stream",
      columns: [
        { name: "chip", type: "VARCHAR" },
        { name: "called_at", type: "TIMESTAMP" },
      ],
    },
    {
      name: "entrants",
      kind: "table",
      columns: [
        { name: "chip", type: "VARCHAR" },
        { name: "club", type: "VARCHAR" },
      ],
    },
  ];
  for (const { id } of doings) expect("block" in begun(id, "reads", columns, others), id).toBe(true);
  expect(begun("lookup", "reads", columns, [])).toHaveProperty("missing");
  expect(begun("join", "reads", columns, [])).toHaveProperty("missing");
  expect(begun("windows", "reads", [columns[0]!], [])).toHaveProperty("missing");
  expect(begun("keep", "reads", [], [])).toHaveProperty("missing");
});

test("sources, steps and sinks are drawn with what leads from one to another", () => {
  let drawing = read(withStep(empty, "kept", { ...emptyBlock("reads"), where: [{ expr: "rssi > 1" }] }));
  drawing = withRoute(drawing, "kept", "out", "", "j");
  const drawn = {
    sql: "",
    drawing,
    steps: [{ columns }],
    sources: [{ name: "reads", kind: "stream", columns }],
    sinks: [],
  };
  const { boxes, lines } = drawnOf(drawn, ["reads"]);
  expect(boxes.map((b) => [b.sort, b.name, b.does.join(), b.problem])).toEqual([
    ["source", "reads", "stream", undefined],
    ["step", "kept", "keeps rssi > 1", undefined],
    ["sink", "out", "", "no sink is called out"],
  ]);
  expect(lines.map((l) => `${l.from} to ${l.to}`)).toEqual(["source reads to step kept", "step kept to sink out"]);
});

test("names that are words of the language are quoted, as the service writes them", () => {
  const words = [
    { name: "order", type: "VARCHAR" },
    { name: "at", type: "TIMESTAMP" },
  ];
  const made = begun("windows", "reads", words, []);
  expect("block" in made && made.block.group_by).toEqual(['"order"', "w"]);
  expect(plain(`"order" = 'x'`)).toEqual({ column: '"order"', is: "=", value: "x" });
  expect(sqlPath("device.at")).toBe('device."at"');
  expect(sqlName("chip")).toBe("chip");
});

test("a list is cut at its commas", () => {
  expect(cutAtCommas(`a, f(b, 'x,)') , "c,d", ARRAY[1, 2]`)).toEqual(["a", "f(b, 'x,)')", '"c,d"', "ARRAY[1, 2]"]);
});
