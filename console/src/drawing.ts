// What is done by hand to the drawing of a job: the service makes its text of it, and its drawing of the text.
import type { BlockParts, Column, Drawing, Drawn, RouteParts, StepParts } from "./api";
import { say } from "./i18n";
import { isNumber, isText, isTime, sqlName, sqlText } from "./sql";

/** Something that a step may read. */
export type Readable = { name: string; kind: string; columns: Column[] };

export const emptyBlock = (from: string): BlockParts => ({
  columns: [{ expr: "*" }],
  from: { name: from },
  joins: [],
  where: [],
  group_by: [],
  having: [],
  windows: [],
});

const stepOf = (name: string, block: BlockParts): StepParts => ({ name, query: "", blocks: [block] });

/** A query that only gives the rows of something: it is not drawn, as it stands for nothing but the end. */
const passing = (s: StepParts | undefined): string | undefined => {
  const b = s?.blocks[0];
  if (!s || s.name !== "" || s.comment || s.after || s.blocks.length !== 1 || !b) return undefined;
  const plain =
    b.columns.length === 1 &&
    b.columns[0]!.expr === "*" &&
    !b.distinct &&
    !b.unique &&
    b.joins.length + b.where.length + b.group_by.length + b.having.length + b.windows.length === 0 &&
    b.from.name &&
    !b.from.since &&
    !b.from.query;
  return plain ? b.from.name : undefined;
};

/** The steps that are drawn: a last query that only gives the rows of a step is left out. */
export function shownSteps(d: Drawing): StepParts[] {
  const last = d.steps[d.steps.length - 1];
  const of = passing(last);
  return !d.job && of !== undefined && d.steps.some((s) => s.name === of) && !d.limit && !d.until
    ? d.steps.slice(0, -1)
    : d.steps;
}

/** What a step is called: the last one of a job may have the job's name. */
export const called = (d: Drawing, s: StepParts) => s.name || (d.job ? (d.name ?? "") : "result");

/** The same drawing, in which every step has a name, so that others can be put behind it. */
export function named(d: Drawing): Drawing {
  const steps = shownSteps(d);
  const last = steps[steps.length - 1];
  if (!last || last.name) return { ...d, steps };
  if (!d.job && passing(last)) return { ...d, steps: steps.slice(0, -1), limit: undefined, until: undefined };
  const name = free(d, d.job ? called(d, last) : "result");
  return {
    ...d,
    limit: undefined,
    until: undefined,
    steps: [...steps.slice(0, -1), { ...last, name }],
    routes: d.routes.map((r) => (r.step === called(d, last) ? { ...r, step: name } : r)),
  };
}

/** What a step is called once every step has a name. */
export function calledThen(d: Drawing, name: string): string {
  const last = d.steps[d.steps.length - 1];
  if (!last || last.name || called(d, last) !== name) return name;
  return named(d).steps.at(-1)?.name || name;
}

/** A name that no step has, and nothing else that is read. */
export function free(d: Drawing, like: string, taken: string[] = []): string {
  const used = new Set([...d.steps.map((s) => s.name), ...d.steps.flatMap((s) => s.reads ?? []), ...taken]);
  if (!used.has(like)) return like;
  for (let i = 2; ; i++) if (!used.has(`${like}_${i}`)) return `${like}_${i}`;
}

/** What people do to rows, in the order in which it is mostly done. */
export const doings = [
  { id: "keep", words: say("Keep some rows"), about: say("those of which conditions hold") },
  { id: "columns", words: say("Choose and compute columns"), about: say("rename, leave out, compute") },
  { id: "windows", words: say("Count in windows"), about: say("group by time and columns") },
  { id: "join", words: say("Join in time"), about: say("rows of two streams that belong together") },
  { id: "lookup", words: say("Look up in a table"), about: say("add what a table knows") },
  { id: "repeats", words: say("Drop repeats"), about: say("the first of several in a while") },
  { id: "union", words: say("Put rows together"), about: say("of two steps or streams with the same columns") },
  { id: "unnest", words: say("Take a list apart"), about: say("a row for each element") },
  { id: "top", words: say("Keep the first of each"), about: say("the greatest or newest few, in a window") },
] as const;
export type Doing = (typeof doings)[number]["id"];

/** A step that does something to rows, to begin with; missing says what there is not. */
export function begun(
  what: Doing,
  from: string,
  columns: Column[],
  others: Readable[],
): { name: string; block: BlockParts; more?: BlockParts } | { missing: string } {
  const block = emptyBlock(from);
  const text = columns.find((c) => isText(c.type))?.name;
  const time = columns.find((c) => isTime(c.type))?.name;
  const number = columns.find((c) => isNumber(c.type))?.name;
  const some = (text ?? columns[0]?.name ?? "") as string;
  if (!some) return { missing: `The columns of ${from} are not known: something before is not right yet.` };
  switch (what) {
    case "keep":
      return { name: "kept", block: { ...block, where: [{ expr: `${sqlName(some)} IS NOT NULL` }] } };
    case "columns":
      return {
        name: "chosen",
        block: {
          ...block,
          columns: columns.filter((c) => !c.name.includes(".")).map((c) => ({ expr: sqlName(c.name) })),
        },
      };
    case "windows":
      if (!time) return { missing: `The rows of ${from} have no time.` };
      return {
        name: "counted",
        block: {
          ...block,
          columns: [
            { expr: sqlName(some) },
            { expr: "w.opens", as: "opens" },
            { expr: "w.closes", as: "closes" },
            { expr: "COUNT(*)", as: "n" },
          ],
          group_by: [sqlName(some), "w"],
          windows: [{ name: "w", kind: "tumbling", length: "1 MINUTE" }],
        },
      };
    case "join": {
      const other = others.find((o) => o.kind !== "table" && o.name !== from && o.columns.some((c) => isTime(c.type)));
      if (!time || !other) return { missing: `There is no other stream with a time to join ${from} with.` };
      const otherTime = other.columns.find((c) => isTime(c.type))!.name;
      const key = shared(columns, other.columns) ?? [
        some,
        other.columns.find((c) => isText(c.type))?.name ?? otherTime,
      ];
      return {
        name: "joined",
        block: {
          ...block,
          columns: [{ expr: "l.*" }, ...distinctOf(columns, other.columns, "r")],
          from: { name: from, alias: "l" },
          joins: [
            {
              kind: "INNER",
              with: { name: other.name, alias: "r" },
              on: [
                `r.${sqlName(key[1])} = l.${sqlName(key[0])}`,
                `r.${sqlName(otherTime)} WITHIN 1 MINUTE OF l.${sqlName(time)}`,
              ],
            },
          ],
        },
      };
    }
    case "lookup": {
      const table = others.find((o) => o.kind === "table");
      if (!table) return { missing: "There is no table yet. Declare one, or join in time." };
      const key = shared(columns, table.columns) ?? [some, table.columns[0]!.name];
      return {
        name: "looked_up",
        block: {
          ...block,
          columns: [{ expr: "l.*" }, ...distinctOf(columns, table.columns, "t")],
          from: { name: from, alias: "l" },
          joins: [
            {
              kind: "LEFT",
              with: { name: table.name, alias: "t" },
              on: [`t.${sqlName(key[1])} = l.${sqlName(key[0])}`],
            },
          ],
        },
      };
    }
    case "repeats":
      return { name: "once", block: { ...block, unique: { by: [sqlName(some)], within: "1 MINUTE" } } };
    case "union": {
      const other = others.find((o) => o.kind !== "table" && o.name !== from);
      return { name: "together", block, more: emptyBlock(other?.name ?? from) };
    }
    case "unnest": {
      const list = columns.find((c) => c.type.startsWith("ARRAY"));
      if (!list) return { missing: `${from} has no column with a list.` };
      return {
        name: "elements",
        block: {
          ...block,
          columns: [{ expr: "*" }],
          joins: [{ kind: "CROSS", with: { unnest: sqlName(list.name), alias: "u", columns: ["element"] }, on: [] }],
        },
      };
    }
    case "top":
      if (!time) return { missing: `The rows of ${from} have no time.` };
      return {
        name: "newest",
        block: {
          ...block,
          columns: [
            { expr: sqlName(some) },
            { expr: "w.closes", as: "closes" },
            ...(number ? [{ expr: `MAX(${sqlName(number)})`, as: `largest_${number}` }] : []),
            { expr: `MAX(${sqlName(time)})`, as: "newest" },
          ],
          group_by: [sqlName(some), "w"],
          windows: [{ name: "w", kind: "tumbling", length: "1 MINUTE" }],
        },
      };
  }
}

/** A column that two sides have in common by its name. */
function shared(a: Column[], b: Column[]): [string, string] | undefined {
  const c = a.find((x) => !isTime(x.type) && b.some((y) => y.name === x.name && y.type === x.type));
  return c && [c.name, c.name];
}

/** The columns of the other side that this side does not have. */
const distinctOf = (a: Column[], b: Column[], alias: string) =>
  b
    .filter((c) => !c.name.includes(".") && !a.some((x) => x.name === c.name))
    .map((c) => ({ expr: `${alias}.${sqlName(c.name)}` }));

/** A drawing with one step more, behind those that are there. */
export function withStep(d: Drawing, name: string, block: BlockParts, more?: BlockParts): Drawing {
  const x = named(d);
  const step = stepOf(name, block);
  if (more) step.blocks.push(more);
  return { ...x, steps: [...x.steps, step] };
}

/** A drawing with a step changed; its text is made anew of its parts. */
export function withChanged(d: Drawing, i: number, change: Partial<StepParts>): Drawing {
  const old = d.steps[i]!;
  const next = { ...old, ...change };
  if (change.blocks) next.query = "";
  let out = { ...d, steps: d.steps.map((s, k) => (k === i ? next : s)) };
  if (change.name !== undefined && change.name !== old.name) out = renamed(out, called(d, old), change.name, i);
  return out;
}

/** What reads a step under its old name reads it under the new one. */
function renamed(d: Drawing, from: string, to: string, self: number): Drawing {
  const block = (b: BlockParts): BlockParts => ({
    ...b,
    from: b.from.name === from ? { ...b.from, name: to, alias: b.from.alias ?? from } : b.from,
    joins: b.joins.map((j) =>
      j.with.name === from ? { ...j, with: { ...j.with, name: to, alias: j.with.alias ?? from } } : j,
    ),
  });
  return {
    ...d,
    steps: d.steps.map((s, i) =>
      i !== self && s.reads?.includes(from) ? { ...s, query: "", blocks: s.blocks.map(block) } : s,
    ),
    routes: d.routes.map((r) => (r.step === from ? { ...r, step: to } : r)),
  };
}

/** Why a step cannot be dropped; "" where it can. */
export function holds(d: Drawing, i: number): string {
  const name = called(d, d.steps[i]!);
  const readers = d.steps.filter((s, k) => k !== i && s.reads?.includes(name)).map((s) => called(d, s));
  return readers.length > 0 ? `${readers.join(" and ")} ${readers.length > 1 ? "read" : "reads"} it` : "";
}

/** A drawing without a step. Those that read it read what it has read, where that is one thing. */
export function withoutStep(d: Drawing, i: number): Drawing {
  const x = { ...d, steps: d.steps.filter((_, k) => k !== i) };
  const name = called(d, d.steps[i]!);
  const routes = d.routes.filter((r) => r.step !== name);
  return routes.length === 0 ? asQuery({ ...x, routes }) : { ...x, routes };
}

/** A job that leads nowhere is a query. */
function asQuery(d: Drawing): Drawing {
  return d.job && d.routes.length === 0 ? { ...d, job: false, routes: [], set: [] } : d;
}

/** A drawing in which the rows of a step go to a sink, too. A query becomes a job by that. */
export function withRoute(d: Drawing, step: string, sink: string, where = "", jobName = "my_job"): Drawing {
  let x = d.job ? d : named(d);
  const steps = x.steps;
  if (!d.job) x = { ...x, job: true, name: jobName, limit: undefined, until: undefined, steps };
  const at = x.routes.findIndex((r) => r.step === step && !r.kind);
  if (at < 0)
    return { ...x, routes: [...x.routes, { step, branches: [{ where: where || undefined, sinks: [sink] }] }] };
  const r = x.routes[at]!;
  const branches = r.branches.map((b) => ({ ...b, sinks: [...b.sinks] }));
  const last = branches[branches.length - 1]!;
  if (!where && !last.where) {
    if (!last.sinks.includes(sink)) last.sinks.push(sink);
  } else if (where && !last.where) branches.splice(branches.length - 1, 0, { where, sinks: [sink] });
  else branches.push({ where: where || undefined, sinks: [sink] });
  return { ...x, routes: x.routes.map((y, i) => (i === at ? { ...y, branches } : y)) };
}

/** A drawing with a route changed; one that leads nowhere is dropped. */
export function withRouteChanged(d: Drawing, i: number, route: RouteParts): Drawing {
  const branches = route.branches.filter((b) => b.sinks.length > 0);
  // Only the last arm may take all that is left.
  const sorted = [...branches.filter((b) => b.where), ...branches.filter((b) => !b.where)];
  const routes =
    sorted.length === 0
      ? d.routes.filter((_, k) => k !== i)
      : d.routes.map((r, k) => (k === i ? { ...route, branches: sorted } : r));
  return asQuery({ ...d, routes });
}

/** A drawing in which nothing leads to a sink. */
export function withoutSink(d: Drawing, sink: string): Drawing {
  const routes = d.routes
    .map((r) => ({
      ...r,
      branches: r.branches
        .map((b) => ({ ...b, sinks: b.sinks.filter((s) => s !== sink) }))
        .filter((b) => b.sinks.length > 0),
    }))
    .filter((r) => r.branches.length > 0);
  return asQuery({ ...d, routes });
}

/** A condition that a form can ask for. */
export type Plain = { column: string; is: string; value: string };

export const relations: Record<"text" | "number" | "time" | "flag" | "other", [is: string, words: string][]> = {
  text: [
    ["=", "is"],
    ["<>", "is not"],
    ["LIKE", "is like"],
    ["IS NOT NULL", "is there"],
    ["IS NULL", "is missing"],
  ],
  number: [
    ["=", "is"],
    ["<>", "is not"],
    [">", "is more than"],
    [">=", "is at least"],
    ["<", "is less than"],
    ["<=", "is at most"],
    ["IS NOT NULL", "is there"],
    ["IS NULL", "is missing"],
  ],
  time: [
    [">=", "is from"],
    ["<", "is before"],
    ["IS NOT NULL", "is there"],
    ["IS NULL", "is missing"],
  ],
  flag: [
    ["IS TRUE", "is true"],
    ["IS FALSE", "is false"],
    ["IS NOT NULL", "is there"],
    ["IS NULL", "is missing"],
  ],
  other: [
    ["IS NOT NULL", "is there"],
    ["IS NULL", "is missing"],
  ],
};

export const sortOf = (type: string): keyof typeof relations =>
  isText(type) ? "text" : isNumber(type) ? "number" : isTime(type) ? "time" : type === "BOOLEAN" ? "flag" : "other";

const columnOf = String.raw`((?:[a-z_][a-z0-9_]*|"(?:[^"]|"")*")(?:\.(?:[a-z_][a-z0-9_]*|"(?:[^"]|"")*"))*)`;
const condition = new RegExp(
  String.raw`^${columnOf} (?:(IS (?:NOT )?NULL|IS TRUE|IS FALSE)|(=|<>|<=|>=|<|>|LIKE) ('(?:[^']|'')*'|-?\d+(?:\.\d+)?|TIMESTAMP '[^']*'))$`,
);

/** A condition in the form that a form asks for; undefined where it is more than that. */
export function plain(expr: string): Plain | undefined {
  const m = condition.exec(expr.trim());
  if (!m) return undefined;
  const value = m[4] ?? "";
  const quoted = /^(?:TIMESTAMP )?'(.*)'$/s.exec(value);
  return { column: m[1]!, is: m[2] ?? m[3]!, value: quoted ? quoted[1]!.replaceAll("''", "'") : value };
}

/** The condition of a form, as SQL. */
export function conditionOf(p: Plain, type: string): string {
  if (p.is.startsWith("IS")) return `${p.column} ${p.is}`;
  const sort = sortOf(type);
  const value =
    sort === "number"
      ? /^-?\d+(\.\d+)?$/.test(p.value.trim())
        ? p.value.trim()
        : "0"
      : sort === "time"
        ? `TIMESTAMP ${sqlText(p.value)}`
        : sqlText(p.value);
  return `${p.column} ${p.is} ${value}`;
}

/** What is drawn: sources, steps and sinks, and what leads from one to another. */
export type Box = { id: string; sort: "source" | "step" | "sink"; name: string; does: string[]; problem?: string };
export type Line = { id: string; from: string; to: string; label?: string; tone: "soft" | "sand" | "clay" };

const doesOf = (s: StepParts): string[] => {
  const out: string[] = [];
  for (const b of s.blocks) {
    for (const j of b.joins)
      out.push(
        j.with.unnest
          ? `takes ${j.with.unnest} apart`
          : `joins ${j.with.name ?? "a query"}${j.kind === "LEFT" ? ", where there is one" : ""}`,
      );
    if (b.where.length > 0) out.push(`keeps ${b.where.map((c) => c.expr).join(" and ")}`);
    if (b.unique) out.push(`once in ${b.unique.within.toLowerCase()} by ${b.unique.by.join(", ")}`);
    for (const w of b.windows)
      if (w.kind)
        out.push(
          w.kind === "session"
            ? `sessions, ${(w.gap ?? "").toLowerCase()} apart`
            : `${w.kind} windows of ${(w.length ?? "").toLowerCase()}`,
        );
    const by = b.group_by.filter((g) => !b.windows.some((w) => w.name === g));
    if (b.group_by.length > 0) out.push(by.length > 0 ? `grouped by ${by.join(", ")}` : "one group");
    if (b.having.length > 0) out.push(`then keeps ${b.having.map((c) => c.expr).join(" and ")}`);
    if (b.columns.some((c) => c.expr.includes(" OVER "))) out.push("looks at neighbours");
    if (b.columns.length > 1 && b.group_by.length === 0) out.push(`gives ${b.columns.length} columns`);
  }
  if (s.blocks.length > 1) out.unshift(`puts ${s.blocks.length} together`);
  return out.length > 0 ? out : ["gives all rows"];
};

export function drawnOf(drawn: Drawn, loose: string[] = []): { boxes: Box[]; lines: Line[] } {
  const d = drawn.drawing;
  const steps = shownSteps(d);
  const boxes: Box[] = [];
  const lines: Line[] = [];
  const own = new Set(steps.map((s) => called(d, s)));
  const add = (b: Box) => {
    if (!boxes.some((x) => x.id === b.id)) boxes.push(b);
  };
  const sourceId = (n: string) => (own.has(n) ? `step ${n}` : `source ${n}`);
  const kinds = new Map(drawn.sources.map((s) => [s.name, s.kind]));
  const source = (n: string) =>
    add({
      id: `source ${n}`,
      sort: "source",
      name: n,
      does: [kinds.get(n) ?? "is not declared"],
      problem: kinds.has(n) ? undefined : `nothing is called ${n}`,
    });
  for (const n of loose) source(n);
  steps.forEach((s, i) => {
    const name = called(d, s);
    for (const r of s.reads ?? []) {
      const before = steps.slice(0, i).some((x) => called(d, x) === r);
      if (!before) source(r);
      lines.push({
        id: `${r} > ${name}`,
        from: before ? sourceId(r) : `source ${r}`,
        to: `step ${name}`,
        tone: "soft",
      });
    }
    add({ id: `step ${name}`, sort: "step", name, does: doesOf(s), problem: drawn.steps[i]?.problem });
  });
  d.routes.forEach((r, i) => {
    if (!own.has(r.step)) source(r.step);
    for (const [k, b] of r.branches.entries())
      for (const sink of b.sinks) {
        add({
          id: `sink ${sink}`,
          sort: "sink",
          name: sink,
          does: [],
          problem: drawn.sinks?.includes(sink) ? undefined : `no sink is called ${sink}`,
        });
        if (b.where) boxes.find((x) => x.id === `sink ${sink}`)!.does.push(`where ${b.where}`);
        lines.push({
          id: `route ${i}.${k} ${sink}`,
          from: own.has(r.step) ? `step ${r.step}` : `source ${r.step}`,
          to: `sink ${sink}`,
          label: r.kind ? r.kind : r.branches.length > 1 && !b.where ? "all others" : "",
          tone: r.kind === "late" ? "sand" : r.kind === "rejected" ? "clay" : "soft",
        });
      }
  });
  return { boxes, lines };
}

/** Cuts a list at its commas, not at those in parentheses or quotes. */
export function cutAtCommas(text: string): string[] {
  const out: string[] = [];
  let depth = 0,
    quote = "",
    from = 0;
  for (let i = 0; i < text.length; i++) {
    const c = text[i]!;
    if (quote) {
      if (c === quote) quote = "";
    } else if (c === "'" || c === '"') quote = c;
    else if ("([".includes(c)) depth++;
    else if (")]".includes(c)) depth--;
    else if (c === "," && depth === 0) {
      out.push(text.slice(from, i).trim());
      from = i + 1;
    }
  }
  out.push(text.slice(from).trim());
  return out.filter(Boolean);
}
