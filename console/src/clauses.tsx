// The clauses of a SELECT as a form, with only what is valid there.
import type { BlockParts, Column } from "./api";
import { cutAtCommas, type Readable } from "./drawing";
import { Told, Part, drop, ConditionRow, Length } from "./fields";
import { say } from "./i18n";
import { Button, Field, Select } from "./parts";
import { isNumber, sqlPath } from "./sql";

const measures = ["COUNT", "SUM", "AVG", "MIN", "MAX"];

/** The clauses of a SELECT. */
export function Clauses({
  block: b,
  before,
  here,
  own,
  locked,
  onChange,
}: {
  block: BlockParts;
  before: Readable[];
  here: Column[];
  own: Column[];
  locked: boolean;
  onChange: (b: BlockParts) => void;
}) {
  const first = here[0] ? sqlPath(here[0].name) : "";
  const grouped = b.group_by.length > 0;
  const time = here.find((c) => c.type === "TIMESTAMP");
  const window = b.windows[0];
  const setWindow = (w: Partial<NonNullable<typeof window>>) =>
    onChange({ ...b, windows: b.windows.map((x, i) => (i === 0 ? { ...x, ...w } : x)) });
  const groupBy = b.group_by.filter((g) => g !== window?.name);
  const regroup = (list: string[]) =>
    onChange({
      ...b,
      group_by: window?.kind ? [...list, window.name] : list,
      columns: [
        ...list.filter((g) => !b.columns.some((c) => c.expr === g)).map((expr) => ({ expr })),
        ...b.columns.filter((c) => !groupBy.includes(c.expr) || list.includes(c.expr)),
      ],
    });
  const more: [string, string, boolean, () => void][] = [
    [
      "A condition",
      "more-where",
      first !== "",
      () => onChange({ ...b, where: [...b.where, { expr: `${first} IS NOT NULL` }] }),
    ],
    [
      "Windows and groups",
      "more-windows",
      !grouped && !!time,
      () =>
        onChange({
          ...b,
          columns: [{ expr: first }, { expr: "w.opens", as: "opens" }, { expr: "COUNT(*)", as: "n" }],
          group_by: [first, "w"],
          windows: [{ name: "w", kind: "tumbling", length: "1 MINUTE" }, ...b.windows],
        }),
    ],
    [
      "Repeats dropped",
      "more-unique",
      !b.unique && first !== "",
      () => onChange({ ...b, unique: { by: [first], within: "1 MINUTE" } }),
    ],
    [
      "A condition on groups",
      "more-having",
      grouped,
      () => onChange({ ...b, having: [...b.having, { expr: "COUNT(*) > 1" }] }),
    ],
  ];
  const name = (i: number) => b.columns[i]!.as ?? b.columns[i]!.expr;
  return (
    <>
      <Part title={say("Reads")}>
        {b.from.query || b.from.unnest ? (
          <p className="font-mono text-xs text-soft">{b.from.query ?? b.from.unnest}</p>
        ) : (
          <Select
            aria-label={say("What the step reads")}
            testid="step-from"
            className="w-full"
            disabled={locked}
            value={b.from.name}
            onChange={(e) => onChange({ ...b, from: { ...b.from, name: e.target.value } })}
          >
            {!before.some((r) => r.name === b.from.name) && <option>{b.from.name}</option>}
            {before.map((r) => (
              <option key={r.name} value={r.name}>
                {r.name} ({r.kind})
              </option>
            ))}
          </Select>
        )}
      </Part>
      {b.joins.length > 0 && (
        <Part title={say("Joined with")}>
          {b.joins.map((j, i) => {
            const set = (x: Partial<typeof j>) =>
              onChange({ ...b, joins: b.joins.map((y, k) => (k === i ? { ...y, ...x } : y)) });
            return (
              <div key={i} className="space-y-1.5 rounded-md border border-line p-2">
                <div className="flex items-center gap-1">
                  {j.with.unnest !== undefined ? (
                    <span className="flex-1 text-xs">
                      {say("a row for each element of")} <b>{j.with.unnest}</b>
                    </span>
                  ) : (
                    <>
                      <Select
                        aria-label={say("Join {{0}}: with", { 0: i + 1 })}
                        testid="join-with"
                        className="min-w-0 flex-1"
                        disabled={locked || j.with.name === undefined}
                        value={j.with.name}
                        onChange={(e) => set({ with: { ...j.with, name: e.target.value } })}
                      >
                        {before.map((r) => (
                          <option key={r.name} value={r.name}>
                            {r.name} ({r.kind})
                          </option>
                        ))}
                      </Select>
                      <Select
                        aria-label={say("Join {{0}}: which rows", { 0: i + 1 })}
                        disabled={locked}
                        value={j.kind}
                        onChange={(e) => set({ kind: e.target.value as typeof j.kind })}
                      >
                        <option value="INNER">{say("only rows with a match")}</option>
                        <option value="LEFT">{say("all, with a match or without")}</option>
                        {["RIGHT", "FULL"].includes(j.kind) && <option>{j.kind}</option>}
                      </Select>
                    </>
                  )}
                  {!locked &&
                    drop(`Drop join ${i + 1}`, () => onChange({ ...b, joins: b.joins.filter((_, k) => k !== i) }))}
                </div>
                {j.on.map((on, k) => (
                  <ConditionRow
                    key={k}
                    label={say("Condition {{0}} of join {{1}}", { 0: k + 1, 1: i + 1 })}
                    expr={on}
                    columns={[]}
                    locked={locked}
                    onTell={(expr) => set({ on: j.on.map((x, n) => (n === k ? expr : x)) })}
                    onDrop={j.on.length > 1 ? () => set({ on: j.on.filter((_, n) => n !== k) }) : undefined}
                  />
                ))}
              </div>
            );
          })}
        </Part>
      )}
      {b.where.length > 0 && (
        <Part title={say("Keeps rows of which all this holds")}>
          {b.where.map((c, i) => (
            <ConditionRow
              key={i}
              label={say("Condition {{0}}", { 0: i + 1 })}
              expr={c.expr}
              columns={here}
              locked={locked}
              onTell={(expr) => onChange({ ...b, where: b.where.map((x, k) => (k === i ? { ...x, expr } : x)) })}
              onDrop={() => onChange({ ...b, where: b.where.filter((_, k) => k !== i) })}
            />
          ))}
        </Part>
      )}
      {b.unique && (
        <Part
          title={say("Drops repeats")}
          aside={!locked && drop("Keep repeats", () => onChange({ ...b, unique: undefined }))}
        >
          <Field label={say("Rows are the same where these are")}>
            <Told
              label={say("Columns that tell rows apart")}
              mono
              disabled={locked}
              value={b.unique.by.join(", ")}
              list="columns-here"
              onTell={(v) => onChange({ ...b, unique: { ...b.unique!, by: cutAtCommas(v) } })}
            />
          </Field>
          <Field label={say("Within")}>
            <Length
              label={say("Time in which repeats are dropped")}
              locked={locked}
              value={b.unique.within}
              onTell={(within) => onChange({ ...b, unique: { ...b.unique!, within } })}
            />
          </Field>
        </Part>
      )}
      {(grouped || window?.kind) && (
        <Part title={say("Groups")}>
          {window?.kind && (
            <div className="grid grid-cols-2 gap-2">
              <Field label={say("Windows")}>
                <Select
                  testid="window-kind"
                  aria-label={say("Kind of window")}
                  disabled={locked}
                  value={window.kind}
                  onChange={(e) => {
                    const kind = e.target.value as "tumbling" | "sliding" | "session";
                    const long = window.length ?? window.gap ?? "1 MINUTE";
                    setWindow(
                      kind === "session"
                        ? { kind, gap: long, length: undefined, every: undefined }
                        : {
                            kind,
                            length: long,
                            gap: undefined,
                            max: undefined,
                            every: kind === "sliding" ? (window.every ?? "10 SECONDS") : undefined,
                          },
                    );
                  }}
                >
                  <option value="tumbling">{say("one after the other")}</option>
                  <option value="sliding">{say("overlapping")}</option>
                  <option value="session">{say("sessions, ended by a pause")}</option>
                </Select>
              </Field>
              <Field label={window.kind === "session" ? "A pause of" : "Each as long as"}>
                <Length
                  label={say("Length of a window")}
                  testid="window-length"
                  locked={locked}
                  value={(window.kind === "session" ? window.gap : window.length) ?? ""}
                  onTell={(v) => setWindow(window.kind === "session" ? { gap: v } : { length: v })}
                />
              </Field>
              {window.kind === "sliding" && (
                <Field label={say("A new one every")}>
                  <Length
                    label={say("Time between windows")}
                    locked={locked}
                    value={window.every ?? ""}
                    onTell={(every) => setWindow({ every })}
                  />
                </Field>
              )}
              <Field label={say("Late rows correct it for")}>
                <Select
                  aria-label={say("Lateness")}
                  disabled={locked}
                  value={window.lateness ?? ""}
                  onChange={(e) => setWindow({ lateness: e.target.value || undefined })}
                >
                  <option value="">{say("not at all")}</option>
                  {[...new Set([window.lateness, "10 SECONDS", "1 MINUTE", "10 MINUTES", "1 HOUR"])]
                    .filter((x): x is string => !!x)
                    .map((x) => (
                      <option key={x} value={x}>
                        {x.toLowerCase()}
                      </option>
                    ))}
                </Select>
              </Field>
            </div>
          )}
          <Field label={say("One group for each")}>
            <span className="flex flex-wrap gap-1">
              {groupBy.map((g) => (
                <span
                  key={g}
                  className="flex items-center rounded-full bg-river-pale px-2 py-0.5 font-mono text-xs text-river"
                >
                  {g}
                  {!locked && drop(`Do not group by ${g}`, () => regroup(groupBy.filter((x) => x !== g)))}
                </span>
              ))}
              {!locked && (
                <Select
                  aria-label={say("Group by one more column")}
                  testid="group-by"
                  value=""
                  onChange={(e) => e.target.value && regroup([...groupBy, e.target.value])}
                >
                  <option value="">{say("one more …")}</option>
                  {here
                    .filter((c) => !groupBy.includes(sqlPath(c.name)) && !/^(ROW|ARRAY|MAP)/.test(c.type))
                    .map((c) => (
                      <option key={c.name} value={sqlPath(c.name)}>
                        {c.name}
                      </option>
                    ))}
                </Select>
              )}
            </span>
          </Field>
        </Part>
      )}
      {b.having.length > 0 && (
        <Part title={say("Then keeps groups of which all this holds")}>
          {b.having.map((c, i) => (
            <ConditionRow
              key={i}
              label={say("Condition {{0}} on groups", { 0: i + 1 })}
              expr={c.expr}
              columns={[]}
              locked={locked}
              onTell={(expr) => onChange({ ...b, having: b.having.map((x, k) => (k === i ? { ...x, expr } : x)) })}
              onDrop={() => onChange({ ...b, having: b.having.filter((_, k) => k !== i) })}
            />
          ))}
        </Part>
      )}
      <Part
        title={say("Gives")}
        aside={
          own.length > 0 && <span className="font-normal text-soft">{say("{{0}} columns", { 0: own.length })}</span>
        }
      >
        {b.columns.map((c, i) => {
          const set = (x: Partial<typeof c>) =>
            onChange({ ...b, columns: b.columns.map((y, k) => (k === i ? { ...y, ...x } : y)) });
          return (
            <div key={i} className="flex items-center gap-1">
              {c.expr === "*" || c.expr.endsWith(".*") ? (
                <span className="flex-1 py-1 text-xs text-soft">
                  {say("all columns{{0}}", { 0: c.expr === "*" ? "" : ` of ${c.expr.slice(0, -2)}` })}
                </span>
              ) : (
                <>
                  <Told
                    label={say("Column {{0}}", { 0: i + 1 })}
                    testid="column-expr"
                    mono
                    list="columns-here"
                    disabled={locked}
                    value={c.expr}
                    onTell={(expr) => set({ expr })}
                  />
                  <span className="text-xs text-soft">{say("as")}</span>
                  <Told
                    label={say("Name of column {{0}}", { 0: i + 1 })}
                    testid="column-as"
                    disabled={locked}
                    placeholder={/^[\w."]+$/.test(c.expr) ? c.expr.split(".").pop() : ""}
                    value={c.as ?? ""}
                    onTell={(as) => set({ as: as.trim() || undefined })}
                  />
                </>
              )}
              {!locked &&
                drop(
                  `Leave ${name(i)} out`,
                  () => onChange({ ...b, columns: b.columns.filter((_, k) => k !== i) }),
                  b.columns.length === 1,
                )}
            </div>
          );
        })}
        {!locked && (
          <div className="flex flex-wrap gap-1">
            {b.columns.some((c) => c.expr === "*") && here.length > 0 && (
              <Button
                small
                testid="one-by-one"
                onClick={() =>
                  onChange({
                    ...b,
                    columns: here
                      .filter((c) => !/\..*\.|^[^.]+\.[^.]+$/.test(c.name) || b.joins.length > 0)
                      .map((c) => ({ expr: sqlPath(c.name) })),
                  })
                }
              >
                {say("One by one")}
              </Button>
            )}
            {grouped ? (
              <Select
                aria-label={say("One more number")}
                testid="more-measure"
                value=""
                onChange={(e) => {
                  const [fn, column] = e.target.value.split(" ") as [string, string | undefined];
                  const as = fn === "COUNT" ? "n" : `${fn.toLowerCase()}_${(column ?? "").replace(/\W+/g, "_")}`;
                  const taken = new Set(b.columns.map((c) => c.as ?? c.expr));
                  let free = as;
                  for (let i = 2; taken.has(free); i++) free = `${as}_${i}`;
                  onChange({
                    ...b,
                    columns: [...b.columns, { expr: fn === "COUNT" ? "COUNT(*)" : `${fn}(${column})`, as: free }],
                  });
                }}
              >
                <option value="">{say("one more number …")}</option>
                {measures.flatMap((fn) =>
                  fn === "COUNT"
                    ? [
                        <option key={fn} value="COUNT">
                          {say("how many rows")}
                        </option>,
                      ]
                    : here
                        .filter((c) => isNumber(c.type))
                        .map((c) => (
                          <option key={`${fn} ${c.name}`} value={`${fn} ${sqlPath(c.name)}`}>
                            {{ SUM: "sum", AVG: "average", MIN: "smallest", MAX: "largest" }[fn]} {c.name}
                          </option>
                        )),
                )}
              </Select>
            ) : (
              <>
                <Select
                  aria-label={say("One more column")}
                  testid="more-column"
                  value=""
                  onChange={(e) =>
                    e.target.value && onChange({ ...b, columns: [...b.columns, { expr: e.target.value }] })
                  }
                >
                  <option value="">{say("one more column …")}</option>
                  {here.map((c) => (
                    <option key={c.name} value={sqlPath(c.name)}>
                      {c.name}
                    </option>
                  ))}
                </Select>
                <Button
                  small
                  testid="compute"
                  disabled={first === ""}
                  onClick={() =>
                    onChange({
                      ...b,
                      columns: [
                        ...b.columns,
                        {
                          expr: here.find((c) => isNumber(c.type))
                            ? `${sqlPath(here.find((c) => isNumber(c.type))!.name)} * 2`
                            : `upper(CAST(${first} AS VARCHAR))`,
                          as: `computed_${b.columns.length + 1}`,
                        },
                      ],
                    })
                  }
                >
                  {say("Compute one")}
                </Button>
              </>
            )}
          </div>
        )}
      </Part>
      {!locked && (
        <div className="flex flex-wrap items-center gap-1">
          <span className="text-xs text-soft">{say("More:")}</span>
          {more
            .filter(([, , can]) => can)
            .map(([words, testid, , run]) => (
              <Button key={testid} small testid={testid} onClick={run}>
                {words}
              </Button>
            ))}
        </div>
      )}
    </>
  );
}
