// The workbench: write a text, try it on live data or on samples, see what it would do, and deploy it.
import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import {
  api,
  download,
  Problem,
  problemOf,
  type Checked,
  type Connection,
  type Outcome,
  type Row,
  type SampleInfo,
  type TryResult,
} from "./api";
import { compared, steps, type StepPair } from "./compare";
import { draft, keepDraft } from "./drafts";
import {
  Button,
  bytes,
  cell,
  count,
  Diagnostics,
  Empty,
  Fault,
  Field,
  Input,
  Panel,
  Rows,
  Scroll,
  Select,
  Sheet,
} from "./parts";
import { Changes, Connections, Lines, Reasons, SampleRows } from "./found";
import { useLiveQuery } from "./live";
import { PatternForm } from "./patterns";
import { DeclareForm } from "./places";
import { Results } from "./results";
import { moment } from "./zone";
import { say } from "./i18n";

const Editor = lazy(() => import("./editor"));
const Graph = lazy(() => import("./graph"));
const Canvas = lazy(() => import("./canvas"));

const begins = [
  { value: "NOW", label: say("from now on") },
  { value: "BEGINNING", label: say("from the beginning") },
  { value: "10 MINUTES", label: say("from 10 minutes ago") },
  { value: "1 HOUR", label: say("from an hour ago") },
  { value: "at", label: say("from a time …") },
];

/** A choice of where reading begins, as behind SINCE. */
function Begin({
  value,
  onChange,
  extra,
}: {
  value: string;
  onChange: (v: string) => void;
  extra?: { value: string; label: string };
}) {
  const at = value.startsWith("TIMESTAMP") || value === "at";
  return (
    <>
      <Select
        aria-label={say("Where reading begins")}
        testid="begin"
        value={at ? "at" : value}
        onChange={(e) => onChange(e.target.value)}
      >
        {extra && <option value={extra.value}>{extra.label}</option>}
        {begins.map((b) => (
          <option key={b.value} value={b.value}>
            {b.label}
          </option>
        ))}
      </Select>
      {at && (
        <Input
          type="datetime-local"
          step={1}
          aria-label={say("Time in UTC")}
          onChange={(e) => e.target.value && onChange(`TIMESTAMP '${e.target.value.replace("T", " ")}'`)}
        />
      )}
    </>
  );
}

/** How the text is shown: as it is written, as it is drawn, or both. */
const shapes = ["text", "drawing", "both"] as const;
type Shape = (typeof shapes)[number];
const shapeKey = "fiume.shape";
const shapeKept = (): Shape => shapes.find((s) => s === localStorage.getItem(shapeKey)) ?? "text";

export function WorkPage() {
  const [sql, setSql] = useState(draft);
  const [checked, setChecked] = useState<Checked>();
  const [begin, setBegin] = useState("NOW");
  const [chosen, setChosen] = useState<Record<string, number>>({});
  const [panel, setPanel] = useState<"" | "samples" | "deploy" | "declare" | "patterns">("");
  const [tab, setTab] = useState(0);
  const [params] = useSearchParams();
  const [shape, setShape] = useState<Shape>(() => shapes.find((s) => s === params.get("as")) ?? shapeKept());
  useEffect(() => localStorage.setItem(shapeKey, shape), [shape]);
  const asked = params.get("as");
  const [askedBefore, setAskedBefore] = useState(asked);
  if (asked !== askedBefore) {
    setAskedBefore(asked);
    const s = shapes.find((x) => x === asked);
    if (s) setShape(s);
  }
  const { live, run: runLive, stop, pause, reset } = useLiveQuery();
  const words = useQuery({ queryKey: ["words"], queryFn: api.words, staleTime: 10_000 });
  const functions = useQuery({ queryKey: ["functions"], queryFn: api.functions, staleTime: 60_000 });
  const samples = useQuery({ queryKey: ["samples"], queryFn: api.samples, refetchInterval: false });
  useEffect(() => keepDraft(sql), [sql]);
  // The first text fits the streams that there are.
  const [begun, setBegun] = useState(sql !== "");
  const first = words.data?.patterns[0];
  if (first && !begun && shape !== "drawing") {
    setBegun(true);
    if (!sql) setSql(first.sql);
  }

  const streams = useMemo(() => {
    const plan = [...(checked?.statements ?? [])].reverse().find((s) => s.plan)?.plan;
    return [...new Set((plan?.steps ?? []).filter((s) => s.kind === "scan").map((s) => s.step))];
  }, [checked]);
  const plan = [...(checked?.statements ?? [])].reverse().find((s) => s.plan)?.plan;
  const queries = checked?.statements.filter((s) => s.kind === "select").length ?? 0;
  const running = live.phase === "running";
  const isQuery = queries === 1 && checked?.statements.length === 1;

  const layout = useMutation({ mutationFn: async () => setSql((await api.format(sql)).sql) });
  const trial = useMutation({
    mutationFn: (r: { sql: string; samples: Record<string, number>; since?: string }) =>
      api.tryIt({ ...r, file: "text" }),
    onSuccess: (result, r) => {
      setTab(0);
      setTries((all) => [...all.slice(1 - mostTries), { at: new Date(), sql: r.sql, result }]);
    },
  });
  const [tries, setTries] = useState<EarlierTry[]>([]);
  const test = useMutation({
    mutationFn: () =>
      download("tried.zip", "/api/try/test", { sql, samples: used(), since: since || undefined, name: "tried" }),
  });
  const tried = trial.data;
  const busy = layout.isPending || trial.isPending || test.isPending;
  const problem = live.problem ?? problemOf(layout.error ?? trial.error ?? test.error);
  const quiet = () => [layout, trial, test].forEach((m) => m.reset());
  const run = () => {
    quiet();
    setTab(0);
    void runLive(sql.trim().replace(/;\s*$/, ""), begin);
  };
  const used = () => Object.fromEntries(Object.entries(chosen).filter(([s, id]) => id > 0 && streams.includes(s)));
  const since = begin === "NOW" || begin === "at" ? "" : begin;
  const tryIt = () => {
    reset();
    quiet();
    trial.mutate({ sql, samples: used(), since: since || undefined });
  };

  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-center gap-2">
        <h1 className="mr-2 text-xl font-semibold">{say("Write and try")}</h1>
        <Button testid="patterns" onClick={() => setPanel("patterns")}>
          {say("Begin from …")}
        </Button>
        <Button testid="declare-form" onClick={() => setPanel("declare")}>
          {say("Declare …")}
        </Button>
        <Button
          testid="format"
          disabled={!sql.trim()}
          onClick={() => {
            quiet();
            layout.mutate();
          }}
        >
          {say("Lay out")}
        </Button>
        <span className="flex gap-1" role="group" aria-label={say("How it is shown")}>
          {shapes.map((s) => (
            <Button key={s} kind={shape === s ? "main" : "plain"} testid={`as-${s}`} onClick={() => setShape(s)}>
              {s === "text" ? say("Text") : s === "drawing" ? say("Drawing") : say("Both")}
            </Button>
          ))}
        </span>
        <span className="ml-auto text-xs text-soft">
          {busy
            ? say("Working …")
            : checked
              ? checked.ok
                ? say("no errors")
                : `${checked.errors.length} ${checked.errors.length === 1 ? say("error") : say("errors")}`
              : ""}
        </span>
      </div>
      {shape !== "text" && (
        <Suspense fallback={<p className="p-4 text-soft">{say("Drawing …")}</p>}>
          <Canvas sql={sql} onSql={setSql} onDeclare={() => setPanel("declare")} />
        </Suspense>
      )}
      <section className="overflow-hidden rounded-lg border border-line bg-sheet">
        <div className={shape === "drawing" ? "hidden" : ""}>
          <Suspense fallback={<pre className="min-h-36 p-4 font-mono text-sm">{sql}</pre>}>
            <Editor
              value={sql}
              onChange={setSql}
              onRun={() => (isQuery ? run() : tryIt())}
              onStop={stop}
              onChecked={setChecked}
              words={words.data}
              functions={functions.data ?? []}
              label={say("SQL")}
            />
          </Suspense>
        </div>
        <div className="flex flex-wrap items-center gap-2 border-t border-line px-4 py-2.5">
          <Button testid="run" kind="main" onClick={run} disabled={!isQuery || !checked?.ok || running}>
            {say("Run live")}
          </Button>
          <Button testid="pause" disabled={!running} onClick={() => pause(!live.held)}>
            {live.held ? say("Go on") : say("Pause")}
          </Button>
          <Button testid="stop" onClick={stop} disabled={!running}>
            {say("Stop")}
          </Button>
          <Begin value={begin} onChange={setBegin} />
          <span className="mx-1 h-6 border-l border-line" aria-hidden="true" />
          <Button testid="try" disabled={!checked?.ok || !plan || busy} onClick={tryIt}>
            {say("Try to the end")}
          </Button>
          <Button testid="samples" onClick={() => setPanel("samples")}>
            {say("Samples …{{0}}", { 0: Object.keys(used()).length > 0 ? ` (${Object.keys(used()).length})` : "" })}
          </Button>
          <span className="mx-1 h-6 border-l border-line" aria-hidden="true" />
          <Button testid="deploy" disabled={!checked?.ok || isQuery || !sql.trim()} onClick={() => setPanel("deploy")}>
            {say("Deploy …")}
          </Button>
          <span className="ml-auto hidden text-xs text-soft lg:block">
            {say("Ctrl+Enter runs, Esc stops, Ctrl+Space completes")}
          </span>
        </div>
      </section>
      {problem &&
        (problem.diagnostics.length > 0 ? (
          <Diagnostics list={problem.diagnostics} />
        ) : (
          <Fault>{problem.message}</Fault>
        ))}
      {!problem && checked && checked.errors.length > 0 && <Diagnostics list={checked.errors} />}
      <TabGroup selectedIndex={tab} onChange={setTab}>
        <TabList className="flex flex-wrap gap-1 border-b border-line">
          {["Result", "Steps", "Plan", `Late and rejected${tried ? ` (${count(tried.samples.length)})` : ""}`].map(
            (t) => (
              <Tab
                key={t.split(" (")[0]}
                className="-mb-px cursor-pointer border-b-2 border-transparent px-3 py-2 font-medium text-soft data-[selected]:border-river data-[selected]:text-river"
              >
                {t}
              </Tab>
            ),
          )}
        </TabList>
        <TabPanels className="space-y-4 pt-4">
          <TabPanel className="space-y-4">
            {tried ? (
              <Tried
                result={tried}
                onKeep={() => test.mutate()}
                earlier={tries.filter((x) => x.result !== tried)}
                onText={setSql}
              />
            ) : live.phase === "empty" ? (
              <Sheet>
                <Empty>
                  {isQuery
                    ? say("Run it live, or try it to the end on what there is or on a sample.")
                    : say("A job or a query can be tried to its end: nothing is kept, and no sink is written.")}
                </Empty>
              </Sheet>
            ) : (
              <Sheet
                title={
                  running
                    ? live.held
                      ? "Paused; rows go on coming"
                      : "Rows, as they come"
                    : live.phase === "ended"
                      ? "All rows have come"
                      : "Stopped"
                }
                aside={live.sampled ? "rows come faster than they can be looked at: some are shown" : undefined}
              >
                {live.rows.length === 0 && running ? (
                  <Empty>{say("Waiting for rows …")}</Empty>
                ) : (
                  <Results
                    columns={live.columns}
                    rows={live.held ?? live.rows}
                    total={live.total}
                    note={running ? "the newest first" : undefined}
                  />
                )}
              </Sheet>
            )}
          </TabPanel>
          <TabPanel className="space-y-4">
            {tried ? (
              <TriedSteps result={tried} />
            ) : (
              <Sheet>
                <Empty>{say("Try the text: each step shows what it got and what it gave.")}</Empty>
              </Sheet>
            )}
          </TabPanel>
          <TabPanel>
            {plan ? (
              <Sheet
                title={say("How it would run")}
                aside={plan.parallelism ? `${plan.parallelism} tasks` : "as many tasks as there are processors"}
              >
                <Suspense fallback={<p className="p-4 text-soft">{say("Drawing …")}</p>}>
                  <Graph plan={plan} steps={tried?.status.steps} />
                </Suspense>
                <PlanTable checked={checked!} />
              </Sheet>
            ) : (
              <Sheet>
                <Empty>{say("Write a query or a job: its steps, its state and what is read are shown here.")}</Empty>
              </Sheet>
            )}
          </TabPanel>
          <TabPanel className="space-y-4">
            {tried ? (
              <>
                <Reasons reasons={tried.reasons.map((r) => ({ ...r, kind: "rejected" as const }))} />
                <Sheet title={say("Late and rejected rows")}>
                  <SampleRows rows={tried.samples} />
                </Sheet>
              </>
            ) : (
              <Sheet>
                <Empty>{say("Rows that are late, or no rows at all, are shown here when the text is tried.")}</Empty>
              </Sheet>
            )}
          </TabPanel>
        </TabPanels>
      </TabGroup>
      <Panel open={panel === "samples"} title={say("Samples")} wide onClose={() => setPanel("")}>
        <Samples streams={streams} list={samples.data ?? []} chosen={chosen} onChoose={setChosen} />
      </Panel>
      <Panel open={panel === "patterns"} title={say("Begin from …")} wide onClose={() => setPanel("")}>
        {panel === "patterns" && (
          <PatternForm
            onText={(text) => {
              setSql(text);
              setPanel("");
            }}
          />
        )}
      </Panel>
      <Panel
        open={panel === "declare"}
        title={say("Declare a stream, a table, a sink or an endpoint")}
        wide
        onClose={() => setPanel("")}
      >
        <DeclareForm
          onText={(text) => {
            setSql(sql.trim() ? `${sql.trimEnd()}\n${text}\n` : `${text}\n`);
            setPanel("");
          }}
        />
      </Panel>
      <Panel open={panel === "deploy"} title={say("Deploy")} wide onClose={() => setPanel("")}>
        {panel === "deploy" && <Deploy sql={sql} />}
      </Panel>
    </div>
  );
}

function PlanTable({ checked }: { checked: Checked }) {
  const plan = [...checked.statements].reverse().find((s) => s.plan)!.plan!;
  return (
    <>
      <Scroll className="border-t border-line">
        <Rows
          of={plan.steps}
          id={(s) => s.id}
          columns={[
            {
              head: say("Step"),
              of: (s) => (
                <>
                  <span className="font-medium">{s.step}</span> <span className="text-soft">{s.kind}</span>
                </>
              ),
            },
            {
              head: say("Does"),
              wrap: "text-xs",
              of: (s) => (
                <>
                  {s.detail}
                  {s.reads && <span className="text-soft"> {say("reads {{0}}", { 0: s.reads.join(", ") })}</span>}
                  {s.promise && <span className="block text-soft">{s.promise}</span>}
                </>
              ),
            },
            {
              head: say("Result"),
              of: (s) => (
                <>
                  {s.output ?? ""}
                  {s.keys && s.keys.length > 0 && (
                    <span className="block text-xs text-soft">{say("by {{0}}", { 0: s.keys.join(", ") })}</span>
                  )}
                </>
              ),
            },
            {
              head: <>{say("State, at {{0}} rows a second", { 0: count(plan.rows_per_second) })}</>,
              wrap: "text-xs",
              of: (s) => (
                <>
                  {s.state?.words}
                  {s.state?.bytes ? <b className="font-medium"> {bytes(s.state.bytes)}</b> : null}
                </>
              ),
            },
          ]}
        />
      </Scroll>
      {plan.notes?.map((n) => (
        <p key={n} className="border-t border-line px-4 py-2 text-xs text-soft">
          {n}
        </p>
      ))}
    </>
  );
}

/** A try of before, to be compared with. */
type EarlierTry = { at: Date; sql: string; result: TryResult };
const mostTries = 10;

function Tried({
  result,
  onKeep,
  earlier,
  onText,
}: {
  result: TryResult;
  onKeep: () => void;
  earlier: EarlierTry[];
  onText: (sql: string) => void;
}) {
  const [with_, setWith] = useState<EarlierTry>();
  const other = with_ && earlier.includes(with_) ? with_ : undefined;
  return (
    <>
      {result.stopped && <Fault>{result.stopped}</Fault>}
      <p className="flex items-center gap-3 text-xs text-soft">
        <span data-testid="tried">
          {say("Tried in {{0}} ms: {{1}} messages read. Nothing was kept.", {
            0: count(result.took_ms),
            1: count(
              result.status.steps.filter((s) => s.kind === "scan" && !s.table).reduce((n, s) => n + s.counts.in, 0),
            ),
          })}
        </span>
        <Button small testid="keep-test" onClick={onKeep}>
          {say("Keep as a test")}
        </Button>
        {earlier.length > 0 && (
          <Select
            aria-label={say("Compare with a try of before")}
            testid="compare-with"
            value={other ? earlier.indexOf(other) : ""}
            onChange={(e) => setWith(e.target.value === "" ? undefined : earlier[Number(e.target.value)])}
          >
            <option value="">{say("compare with …")}</option>
            {[...earlier.entries()].reverse().map(([i, x]) => (
              <option key={i} value={i}>
                {say("the try of {{0}}", { 0: moment(x.at.toISOString()).slice(11, 19) })}
              </option>
            ))}
          </Select>
        )}
        {other && (
          <Button small testid="its-text" onClick={() => onText(other.sql)}>
            {say("Take its text back")}
          </Button>
        )}
      </p>
      {other && <Difference before={other.result} now={result} />}
      {result.results.map((r) => (
        <Sheet key={r.sink ?? "result"} title={r.sink ? `What would stand in ${r.sink}` : "Rows"}>
          <Results columns={r.columns} rows={r.rows as Row[]} total={r.total} />
        </Sheet>
      ))}
    </>
  );
}

/** What is other than in a try of before: rows by result, and what each step did. */
function Difference({ before, now }: { before: TryResult; now: TryResult }) {
  const names = [...new Set([...now.results, ...before.results].map((r) => r.sink ?? ""))];
  return (
    <div className="space-y-4" data-testid="difference">
      {names.map((n) => {
        const of = (t: TryResult) => t.results.find((r) => (r.sink ?? "") === n);
        const d = compared(of(before), of(now));
        const rows = [
          ...d.changed.map((c) => ({ what: "changed", ...c })),
          ...d.come.map((r) => ({ what: "came", now: r, before: undefined, columns: [] as string[] })),
          ...d.gone.map((r) => ({ what: "went", now: r, before: undefined, columns: [] as string[] })),
        ];
        const tones: Record<string, string> = { changed: "text-sand", came: "text-river", went: "text-clay" };
        return (
          <Sheet
            key={n}
            title={n ? `What is other in ${n}` : "What is other"}
            aside={`${count(d.same)} rows as before, ${count(d.changed.length)} changed, ${count(d.come.length)} came, ${count(d.gone.length)} went${d.cut ? "; of the rows that are shown" : ""}`}
          >
            {rows.length === 0 ? (
              <Empty>{say("The rows are the same.")}</Empty>
            ) : (
              <Rows
                of={rows.slice(0, 200)}
                id={(_, i) => i}
                columns={[
                  { head: say("Is"), of: (r) => <span className={`font-medium ${tones[r.what]}`}>{r.what}</span> },
                  ...d.columns.map((c) => ({
                    head: c.name,
                    mono: true,
                    of: (r: (typeof rows)[number]) =>
                      r.before && r.columns.includes(c.name) ? (
                        <>
                          <s className="text-soft">{cell(r.before[c.name])}</s>{" "}
                          <b className="text-sand">{cell(r.now[c.name])}</b>
                        </>
                      ) : (
                        cell(r.now[c.name])
                      ),
                  })),
                ]}
              />
            )}
          </Sheet>
        );
      })}
      <Sheet title={say("What each step did, before and now")}>
        <Rows
          of={steps(before, now)}
          id={(_, i) => i}
          columns={[
            {
              head: say("Step"),
              of: (s) => (
                <>
                  {s.step} <span className="text-soft">{s.kind}</span>
                </>
              ),
            },
            ...(["before", "now"] as const).flatMap((side) => [
              { head: `In, ${side}`, right: true, of: (s: StepPair) => (s[side] ? count(s[side].in) : "–") },
              { head: `Out, ${side}`, right: true, of: (s: StepPair) => (s[side] ? count(s[side].out) : "–") },
              { head: `Left out, ${side}`, of: (s: StepPair) => s[side]?.left ?? "" },
            ]),
          ]}
        />
      </Sheet>
    </div>
  );
}

/** For each step of a tried text what it got and gave, and its first rows. */
function TriedSteps({ result }: { result: TryResult }) {
  return result.status.steps
    .filter((s) => !s.table || s.counts.in > 0)
    .map((s) => {
      const rows = (result.shown[String(s.id)] ?? []).map((r) => JSON.parse(r) as Row);
      const c = s.counts;
      const parts = [
        [c.filtered, "filtered"],
        [c.absorbed, "counted in results"],
        [c.late, "late"],
        [c.rejected, "rejected"],
        [c.held, "held"],
      ]
        .filter(([n]) => (n as number) > 0)
        .map(([n, w]) => `${count(n as number)} ${w as string}`);
      return (
        <Sheet
          key={s.id}
          title={
            <>
              {s.step} <span className="font-normal text-soft">{s.kind}</span>
            </>
          }
          aside={`${count(c.in)} in, ${count(s.out)} out${parts.length ? `; ${parts.join(", ")}` : ""}`}
        >
          <p className="px-4 py-2 text-xs text-soft">{s.detail}</p>
          {rows.length > 0 && (
            <Rows
              of={rows.slice(0, 5)}
              id={(_, i) => i}
              columns={Object.keys(rows[0]!).map((k) => ({ head: k, mono: true, of: (r: Row) => cell(r[k]) }))}
            />
          )}
        </Sheet>
      );
    });
}

/** Keeps samples, and chooses which stand for the streams of the text. */
function Samples({
  streams,
  list,
  chosen,
  onChoose,
}: {
  streams: string[];
  list: SampleInfo[];
  chosen: Record<string, number>;
  onChoose: (c: Record<string, number>) => void;
}) {
  const cache = useQueryClient();
  const topics = useQuery({ queryKey: ["topics"], queryFn: api.topics });
  const [topic, setTopic] = useState("");
  const [limit, setLimit] = useState(500);
  const [problem, setProblem] = useState("");
  const keep = (f: () => Promise<unknown>) => {
    setProblem("");
    f().then(
      () => cache.invalidateQueries({ queryKey: ["samples"] }),
      (e: Error) => setProblem(e.message),
    );
  };
  const upload = async (file: File) => {
    const data = new Uint8Array(await file.arrayBuffer());
    let text = "";
    for (let i = 0; i < data.length; i += 0x8000) text += String.fromCharCode(...data.subarray(i, i + 0x8000));
    await api.keepSample({ file: file.name, data: btoa(text), limit: 50_000 });
  };
  return (
    <>
      {problem && <Fault>{problem}</Fault>}
      <div className="flex flex-wrap items-end gap-3">
        <Field label={say("The newest messages of a topic")}>
          <Select testid="sample-topic" value={topic} onChange={(e) => setTopic(e.target.value)}>
            <option value="">{say("choose a topic")}</option>
            {topics.data?.map((t) => (
              <option key={t.name}>{t.name}</option>
            ))}
          </Select>
        </Field>
        <Field label={say("How many")}>
          <Input
            type="number"
            min={1}
            max={50000}
            value={limit}
            onChange={(e) => setLimit(Number(e.target.value))}
            className="w-24"
          />
        </Field>
        <Button testid="record" disabled={!topic} onClick={() => keep(() => api.keepSample({ topic, limit }))}>
          {say("Record")}
        </Button>
        <Field label={say("Or a file: JSON, CSV, text, Avro or Parquet")}>
          <Input
            type="file"
            testid="upload"
            accept=".json,.ndjson,.jsonl,.csv,.txt,.log,.avro,.parquet"
            onChange={(e) => {
              const f = e.target.files?.[0];
              if (f) keep(() => upload(f));
            }}
          />
        </Field>
      </div>
      {streams.length > 0 && (
        <div className="space-y-2">
          <h3 className="text-sm font-semibold">{say("What the text reads")}</h3>
          {streams.map((s) => (
            <label key={s} className="flex items-center gap-3">
              <span className="w-40 font-medium">{s}</span>
              <Select
                testid={`sample-of-${s}`}
                value={chosen[s] ?? 0}
                onChange={(e) => onChoose({ ...chosen, [s]: Number(e.target.value) })}
              >
                <option value={0}>{say("what its place holds")}</option>
                {list.map((x) => (
                  <option key={x.id} value={x.id}>
                    {say("sample {{0}}: {{1}}, {{2}} messages", { 0: x.id, 1: x.name, 2: count(x.messages) })}
                  </option>
                ))}
              </Select>
            </label>
          ))}
        </div>
      )}
      <div className="rounded-lg border border-line">
        {list.length === 0 ? (
          <Empty>{say("No samples yet. Record the newest messages of a topic, or upload a file.")}</Empty>
        ) : (
          <Rows
            testid="sample-list"
            of={list}
            id={(x) => x.id}
            columns={[
              { head: say("Sample"), of: (x) => x.id },
              { head: say("Name"), of: (x) => x.name },
              { head: say("From"), of: (x) => x.origin },
              { head: say("Format"), of: (x) => x.format },
              { head: say("Messages"), right: true, of: (x) => count(x.messages) },
              {
                right: true,
                of: (x) => (
                  <Button small kind="danger" onClick={() => keep(() => api.dropSample(x.id))}>
                    {say("Drop")}
                  </Button>
                ),
              },
            ]}
          />
        )}
      </div>
    </>
  );
}

/** What a text would change, whether it could run, and the doing of it. */
function Deploy({ sql }: { sql: string }) {
  const [would, setWould] = useState<Outcome[]>();
  const [tests, setTests] = useState<Connection[]>();
  const [done, setDone] = useState<Outcome[]>();
  const [problem, setProblem] = useState<Problem>();
  const [begin, setBegin] = useState("");
  const [tasks, setTasks] = useState("");
  const [busy, setBusy] = useState(true);
  const asProblem = (e: unknown) => setProblem(problemOf(e));
  useEffect(() => {
    let on = true;
    const jobs = /create\s+(or\s+replace\s+)?job/i.test(sql);
    Promise.all([api.apply(sql, true), jobs ? api.connections({ sql }) : Promise.resolve([] as Connection[])])
      .then(
        ([r, c]) => {
          if (on) {
            setWould(r.outcomes);
            setTests(c);
          }
        },
        (e) => on && asProblem(e),
      )
      .finally(() => on && setBusy(false));
    return () => {
      on = false;
    };
  }, [sql]);
  const apply = () => {
    setBusy(true);
    setProblem(undefined);
    api
      .apply(sql, false, begin === "at" ? "" : begin)
      .then(async (r) => {
        setDone(r.outcomes);
        if (r.problem) throw new Problem(r.problem.status, r.problem.detail, r.problem.diagnostics ?? []);
        for (const o of r.outcomes)
          if (o.kind === "job" && tasks && o.name) await api.setParallelism(o.name, Number(tasks));
      })
      .catch(asProblem)
      .finally(() => setBusy(false));
  };
  const creates = would?.some((o) => o.kind === "job" && o.done === "would be created");
  const failed = tests?.filter((t) => !t.ok).length ?? 0;
  return (
    <>
      {problem &&
        (problem.diagnostics.length > 0 ? (
          <Diagnostics list={problem.diagnostics} />
        ) : (
          <Fault>{problem.message}</Fault>
        ))}
      {done ? (
        <div data-testid="deployed" className="space-y-1">
          {done.map((o, i) => (
            <p key={i}>
              {o.kind}{" "}
              {o.kind === "job" ? (
                <Link
                  className="font-medium text-river hover:underline"
                  to={`/jobs/${encodeURIComponent(o.name ?? "")}`}
                >
                  {o.name}
                </Link>
              ) : (
                <b>{o.name}</b>
              )}{" "}
              {o.done}
              {o.note ? ` (${o.note})` : ""}
            </p>
          ))}
        </div>
      ) : (
        <>
          <h3 className="text-sm font-semibold">{say("What would change")}</h3>
          {!would ? (
            <p className="text-soft">{say("Looking …")}</p>
          ) : (
            <Rows
              testid="would"
              of={would}
              id={(_, i) => i}
              columns={[
                {
                  head: say("What"),
                  of: (o) => (
                    <>
                      <span className="text-soft">{o.kind}</span> <b>{o.name}</b>
                    </>
                  ),
                },
                { head: say("Is done"), of: (o) => o.done },
                {
                  head: say("Note"),
                  wrap: "",
                  of: (o) => (
                    <>
                      {o.note && <span className="text-soft">{o.note}</span>}
                      {o.changes && o.changes.length > 0 && <Changes list={o.changes} />}
                      <Lines of={o.prepares} />
                      {o.jobs?.map((j) => (
                        <div key={j.job}>
                          {say("The job {{0}} goes along.", { 0: j.job })}
                          {j.changes.length > 0 && <Changes list={j.changes} />}
                          <Lines of={j.prepares} />
                        </div>
                      ))}
                    </>
                  ),
                },
              ]}
            />
          )}
          {tests && tests.length > 0 && (
            <>
              <h3 className="text-sm font-semibold">
                {say("What it reads and writes{{0}}", { 0: failed > 0 ? `: ${failed} cannot be used` : "" })}
              </h3>
              <div className="rounded-lg border border-line">
                <Connections list={tests} />
              </div>
            </>
          )}
          <div className="flex flex-wrap items-end gap-3">
            {creates && (
              <Field label={say("New jobs read topics")}>
                <span className="flex gap-2">
                  <Begin value={begin} onChange={setBegin} extra={{ value: "", label: say("as their text says") }} />
                </span>
              </Field>
            )}
            {would?.some((o) => o.kind === "job") && (
              <Field label={say("Tasks")}>
                <Input
                  type="number"
                  min={1}
                  max={256}
                  placeholder={say("as the text says")}
                  value={tasks}
                  onChange={(e) => setTasks(e.target.value)}
                  className="w-40"
                />
              </Field>
            )}
            <Button testid="apply" kind="main" disabled={busy || !would} onClick={apply}>
              {say("Deploy")}
            </Button>
          </div>
        </>
      )}
    </>
  );
}
