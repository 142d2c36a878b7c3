// Writes the query of a panel for somebody who answers questions instead of writing it.
import type { Words } from "./api";
import { say } from "./i18n";
import { isNumber, isText, isTime, sqlName } from "./sql";

export type Source = Words["names"][number];

/** The answers, by the questions' names. */
export type Ask = Record<string, string>;

export type Question = { name: string; words: string; choices: [value: string, words: string][] };

const isPlain = (t: string) => !/^(ROW|ARRAY|MAP)/.test(t) && !t.includes("ARRAY");

const columns = (s: Source, fits: (t: string) => boolean): [string, string][] =>
  s.columns.filter((c) => fits(c.type)).map((c) => [c.name, c.name]);

/** What is counted or computed of rows: a function and its column, as "AVG speed", or "COUNT". */
const measures = (s: Source): [string, string][] => [
  ["COUNT", "how many rows"],
  ...s.columns
    .filter((c) => isPlain(c.type) && !isNumber(c.type) && !isTime(c.type))
    .map((c): [string, string] => [`DISTINCT ${c.name}`, `how many different ${c.name}`]),
  ...s.columns
    .filter((c) => isNumber(c.type))
    .flatMap((c): [string, string][] => [
      [`AVG ${c.name}`, `${c.name}, on average`],
      [`SUM ${c.name}`, `${c.name}, the sum`],
      [`MAX ${c.name}`, `${c.name}, the largest`],
      [`MIN ${c.name}`, `${c.name}, the smallest`],
    ]),
];

const every: [string, string][] = [
  ["10 SECONDS", "10 seconds"],
  ["1 MINUTE", "minute"],
  ["5 MINUTES", "5 minutes"],
  ["1 HOUR", "hour"],
];

/** What has to be known for a panel of a kind. */
export function questions(kind: string, s: Source): Question[] {
  const of: Question = { name: "of", words: say("Its number"), choices: measures(s) };
  const by = (words: string, none?: string): Question => ({
    name: "by",
    words,
    choices: [...(none ? ([["", none]] as [string, string][]) : []), ...columns(s, (t) => isPlain(t) && !isTime(t))],
  });
  const time: Question = { name: "every", words: say("For each"), choices: every };
  switch (kind) {
    case "series":
      return [of, by("A line for each", "one line"), time];
    case "heat":
      return [of, by("A row for each"), time];
    case "bars":
      return [of, by("A bar for each")];
    case "areas":
      return [of, { ...by("The country's code"), choices: columns(s, isText) }];
    case "number":
      return [of, time];
    case "histogram":
      return [{ name: "of", words: say("The number"), choices: columns(s, isNumber) }];
    case "states":
      return [by("A line for each"), { name: "state", words: say("The state"), choices: columns(s, isPlain) }];
    case "map":
      return [
        { name: "across", words: say("From left to right"), choices: columns(s, isNumber) },
        { name: "up", words: say("From below to above"), choices: columns(s, isNumber) },
        by("A point for each"),
      ];
  }
  return [];
}

/** Answers to begin with. */
export function guess(kind: string, s: Source | undefined): Ask {
  if (!s) return {};
  const out: Ask = { from: s.name };
  const taken = new Set<string>();
  for (const q of questions(kind, s)) {
    const like: Record<string, RegExp> = { across: /lon|^x$|across/i, up: /lat|^y$|^up/i, by: /country|^code$/i };
    const fits = q.choices.find(([v]) => like[q.name]?.test(v) && (q.name !== "by" || kind === "areas"));
    const free = q.choices.find(([v]) => v === "" || !taken.has(v)) ?? q.choices[0];
    const found = q.name === "every" ? "1 MINUTE" : ((fits ?? free)?.[0] ?? "");
    out[q.name] = found;
    if (found) taken.add(found);
  }
  return out;
}

const said: Record<string, string> = { AVG: "average", SUM: "sum", MAX: "largest", MIN: "smallest" };

/** The query of answers, with a title and the options that go with it; missing says what the source does not have. */
export function worded(
  kind: string,
  s: Source,
  a: Ask,
): { query: string; title: string; options: Record<string, string>; missing?: string } {
  const nothing = (missing: string) => ({ query: "", title: "", options: {}, missing });
  const unanswered = questions(kind, s).find((q) => !a[q.name] && !q.choices.some(([v]) => v === ""));
  if (unanswered) return nothing(`${s.name} has no column for “${unanswered.words.toLowerCase()}”; choose other rows.`);
  const timed = ["series", "heat", "number"].includes(kind);
  if (timed && s.kind === "table")
    return nothing(`The rows of the table ${s.name} have no time; a bar for each would do.`);
  const [fn, ...rest] = (a.of ?? "COUNT").split(" ");
  const column = rest.join(" ");
  const measure =
    fn === "COUNT"
      ? "COUNT(*)"
      : fn === "DISTINCT"
        ? `COUNT(DISTINCT ${sqlName(column)})`
        : `${fn}(${sqlName(column)})`;
  const as = fn === "COUNT" ? "rows_n" : fn === "DISTINCT" ? `${column}_n` : `${said[fn!]}_${column}`;
  const what =
    fn === "COUNT" ? `Rows of ${s.name}` : fn === "DISTINCT" ? `Different ${column}` : `${column}, ${said[fn!]}`;
  const by = a.by ? sqlName(a.by) : "";
  const times = every.find(([v]) => v === a.every)?.[1] ?? "minute";
  if (timed) {
    const label = kind === "number" ? "" : by;
    return {
      query: `SELECT ${label ? `${label}, ` : ""}w.opens AS opened, ${measure} AS ${sqlName(as)}
FROM ${sqlName(s.name)}
GROUP BY ${label ? `${label}, ` : ""}w
WINDOW w AS (TUMBLING ${a.every} LATENESS ${a.every})`,
      title: `${what} ${times === "minute" || times === "hour" ? `a ${times}` : `in ${times}`}${label ? ` by ${a.by}` : ""}`,
      options: { value: as, ...(label ? { label: a.by! } : {}) },
    };
  }
  switch (kind) {
    case "bars":
    case "areas":
      return {
        query: `SELECT ${by}, ${measure} AS ${sqlName(as)}
FROM ${sqlName(s.name)}
GROUP BY ${by}${s.kind === "table" ? "" : " FORGET AFTER 30 DAYS"}`,
        title: `${what} by ${a.by}`,
        options: { label: a.by!, value: as },
      };
    case "histogram":
      return {
        query: `SELECT ${sqlName(a.of!)}
FROM ${sqlName(s.name)}`,
        title: `How ${a.of} is spread`,
        options: { value: a.of! },
      };
    case "states": {
      const at = s.columns.find((c) => isTime(c.type))?.name;
      if (!at) return nothing(`${s.name} has no time.`);
      return {
        query: `SELECT ${by}, ${sqlName(at)}, ${sqlName(a.state!)}
FROM ${sqlName(s.name)}`,
        title: `${a.state} of each ${a.by}`,
        options: { time: at, label: a.by!, state: a.state! },
      };
    }
    case "map":
      return {
        query: `SELECT ${by}, ${sqlName(a.across!)}, ${sqlName(a.up!)}
FROM ${sqlName(s.name)}`,
        title: `Where each ${a.by} is`,
        options: { across: a.across!, up: a.up!, label: a.by! },
      };
  }
  return {
    query: `SELECT ${s.columns
      .filter((c) => isPlain(c.type))
      .map((c) => sqlName(c.name))
      .join(", ")}
FROM ${sqlName(s.name)}`,
    title: `Rows of ${s.name}`,
    options: {},
  };
}
