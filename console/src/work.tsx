// The workbench: write a text, try it on live data or on samples, see what it would do, and deploy it.
import { Menu, MenuButton, MenuItem, MenuItems, Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { api, download, Problem, runQuery, type Checked, type Column, type Connection, type Outcome, type Row, type SampleInfo, type TryResult } from "./api";
import { draft, keepDraft } from "./drafts";
import { Button, bytes, count, Diagnostics, Empty, Fault, Field, Input, Panel, Scroll, Select, Sheet, Td, Th } from "./parts";
import { Changes, Connections, Reasons, SampleRows } from "./found";
import { Results } from "./results";

const Editor = lazy(() => import("./editor"));
const Graph = lazy(() => import("./graph"));

const shown = 300; // rows of a live query
const drawn = 200; // milliseconds between two drawings of live rows

type Phase = "empty" | "running" | "paused" | "ended" | "stopped";

const begins = [
  { value: "NOW", label: "from now on" },
  { value: "BEGINNING", label: "from the beginning" },
  { value: "10 MINUTES", label: "from 10 minutes ago" },
  { value: "1 HOUR", label: "from an hour ago" },
  { value: "at", label: "from a time …" },
];

/** A choice of where reading begins, as behind SINCE. */
function Begin({ value, onChange, extra }: { value: string; onChange: (v: string) => void; extra?: { value: string; label: string } }) {
  const at = value.startsWith("TIMESTAMP") || value === "at";
  return (
    <>
      <Select aria-label="Where reading begins" testid="begin" value={at ? "at" : value} onChange={(e) => onChange(e.target.value)}>
        {extra && <option value={extra.value}>{extra.label}</option>}
        {begins.map((b) => <option key={b.value} value={b.value}>{b.label}</option>)}
      </Select>
      {at && <Input type="datetime-local" step={1} aria-label="Time in UTC" onChange={(e) => e.target.value && onChange(`TIMESTAMP '${e.target.value.replace("T", " ")}'`)} />}
    </>
  );
}

export function WorkPage() {
  const [sql, setSql] = useState(draft);
  const [checked, setChecked] = useState<Checked>();
  const [phase, setPhase] = useState<Phase>("empty");
  const [columns, setColumns] = useState<Column[]>([]);
  const [rows, setRows] = useState<Row[]>([]);
  const [total, setTotal] = useState(0);
  const [sampled, setSampled] = useState(false);
  const [problem, setProblem] = useState<Problem>();
  const [begin, setBegin] = useState("NOW");
  const [tried, setTried] = useState<TryResult>();
  const [busy, setBusy] = useState("");
  const [chosen, setChosen] = useState<Record<string, number>>({});
  const [panel, setPanel] = useState<"" | "samples" | "deploy">("");
  const [tab, setTab] = useState(0);
  const words = useQuery({ queryKey: ["words"], queryFn: api.words, staleTime: 10_000 });
  const functions = useQuery({ queryKey: ["functions"], queryFn: api.functions, staleTime: 60_000 });
  const samples = useQuery({ queryKey: ["samples"], queryFn: api.samples, refetchInterval: false });
  const abort = useRef<AbortController>(undefined);
  const live = useRef<{ rows: Row[]; total: number; paused: boolean; sampled: boolean }>({ rows: [], total: 0, paused: false, sampled: false });
  useEffect(() => keepDraft(sql), [sql]);
  const begun = useRef(sql !== "");
  useEffect(() => { // the first text fits the streams that there are
    const p = words.data?.patterns[0];
    if (p && !begun.current) {
      begun.current = true;
      setSql((s) => s || p.sql);
    }
  }, [words.data]);
  useEffect(() => () => abort.current?.abort(), []);
  useEffect(() => {
    if (phase !== "running") return;
    const t = setInterval(() => {
      const l = live.current;
      setTotal(l.total);
      setSampled(l.sampled);
      if (!l.paused) setRows((old) => (l.rows.length > 0 && l.rows !== old ? l.rows : old));
    }, drawn);
    return () => clearInterval(t);
  }, [phase]);

  const streams = useMemo(() => {
    const plan = [...(checked?.statements ?? [])].reverse().find((s) => s.plan)?.plan;
    return [...new Set((plan?.steps ?? []).filter((s) => s.kind === "scan").map((s) => s.step))];
  }, [checked]);
  const plan = [...(checked?.statements ?? [])].reverse().find((s) => s.plan)?.plan;
  const queries = checked?.statements.filter((s) => s.kind === "select").length ?? 0;
  const isQuery = queries === 1 && checked?.statements.length === 1;

  const reset = () => { abort.current?.abort(); setProblem(undefined); setTried(undefined); setRows([]); setColumns([]); setTotal(0); setSampled(false); };
  const run = async () => {
    reset();
    const control = new AbortController();
    abort.current = control;
    const l = { rows: [] as Row[], total: 0, paused: false, sampled: false };
    live.current = l;
    setTab(0);
    setPhase("running");
    try {
      await runQuery(sql.trim().replace(/;\s*$/, ""), control.signal, {
        columns: setColumns,
        rows: (more) => {
          l.total += more.length;
          if (more.length > shown) l.sampled = true;
          // The newest first. Of more than can be looked at, some are shown.
          l.rows = [...more.slice(-shown).reverse(), ...l.rows].slice(0, shown);
        },
        end: () => undefined,
      }, begin);
      setPhase("ended");
    } catch (e) {
      if (control.signal.aborted) setPhase("stopped");
      else { setPhase("empty"); setProblem(e instanceof Problem ? e : new Problem(0, String(e))); }
    }
    if (abort.current === control) { setTotal(l.total); setRows(l.rows); }
  };
  const stop = () => abort.current?.abort();
  const work = (what: string, f: () => Promise<void>) => {
    setBusy(what);
    setProblem(undefined);
    f().catch((e) => setProblem(e instanceof Problem ? e : new Problem(0, String(e)))).finally(() => setBusy(""));
  };
  const used = () => Object.fromEntries(Object.entries(chosen).filter(([s, id]) => id > 0 && streams.includes(s)));
  const since = begin === "NOW" || begin === "at" ? "" : begin;
  const tryIt = () => work("try", async () => {
    reset();
    setPhase("empty");
    setTried(await api.tryIt({ sql, file: "text", samples: used(), since: since || undefined }));
    setTab(0);
  });
  const keepTest = () => work("test", () => download("tried.zip", "/api/try/test", { sql, samples: used(), since: since || undefined, name: "tried" }));

  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-center gap-2">
        <h1 className="mr-2 text-xl font-semibold">Write and try</h1>
        <Menu>
          <MenuButton data-testid="patterns" className="cursor-pointer rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper">Begin from …</MenuButton>
          <MenuItems anchor="bottom start" className="z-30 mt-1 max-h-96 w-96 rounded-md border border-line bg-sheet p-1 shadow-lg focus:outline-none">
            {(words.data?.patterns ?? []).map((p) => (
              <MenuItem key={p.name}>
                <button type="button" onClick={() => setSql(p.sql)} className="block w-full cursor-pointer rounded px-3 py-1.5 text-left data-[focus]:bg-river-pale">
                  <span className="font-medium">{p.name}</span><span className="block text-xs text-soft">{p.about}</span>
                </button>
              </MenuItem>
            ))}
          </MenuItems>
        </Menu>
        <Button testid="format" disabled={!sql.trim()} onClick={() => work("format", async () => setSql((await api.format(sql)).sql))}>Lay out</Button>
        <span className="ml-auto text-xs text-soft">{busy ? "Working …" : checked ? (checked.ok ? "no errors" : `${checked.errors.length} ${checked.errors.length === 1 ? "error" : "errors"}`) : ""}</span>
      </div>
      <section className="overflow-hidden rounded-lg border border-line bg-sheet">
        <Suspense fallback={<pre className="min-h-36 p-4 font-mono text-sm">{sql}</pre>}>
          <Editor value={sql} onChange={setSql} onRun={() => (isQuery ? void run() : tryIt())} onStop={stop} onChecked={setChecked} words={words.data} functions={functions.data ?? []} label="SQL" />
        </Suspense>
        <div className="flex flex-wrap items-center gap-2 border-t border-line px-4 py-2.5">
          <Button testid="run" kind="main" onClick={() => void run()} disabled={!isQuery || !checked?.ok || phase === "running"}>Run live</Button>
          {phase === "running" && live.current.paused
            ? <Button testid="pause" onClick={() => { live.current.paused = false; setTotal((t) => t); }}>Go on</Button>
            : <Button testid="pause" disabled={phase !== "running"} onClick={() => { live.current.paused = true; setRows((r) => [...r]); }}>Pause</Button>}
          <Button testid="stop" onClick={stop} disabled={phase !== "running"}>Stop</Button>
          <Begin value={begin} onChange={setBegin} />
          <span className="mx-1 h-6 border-l border-line" aria-hidden="true" />
          <Button testid="try" disabled={!checked?.ok || !plan || busy !== ""} onClick={tryIt}>Try to the end</Button>
          <Button testid="samples" onClick={() => setPanel("samples")}>Samples …{Object.keys(used()).length > 0 ? ` (${Object.keys(used()).length})` : ""}</Button>
          <span className="mx-1 h-6 border-l border-line" aria-hidden="true" />
          <Button testid="deploy" disabled={!checked?.ok || isQuery || !sql.trim()} onClick={() => setPanel("deploy")}>Deploy …</Button>
          <span className="ml-auto hidden text-xs text-soft lg:block">Ctrl+Enter runs, Esc stops, Ctrl+Space completes</span>
        </div>
      </section>
      {problem && (problem.diagnostics.length > 0 ? <Diagnostics list={problem.diagnostics} /> : <Fault>{problem.message}</Fault>)}
      {!problem && checked && checked.errors.length > 0 && <Diagnostics list={checked.errors} />}
      <TabGroup selectedIndex={tab} onChange={setTab}>
        <TabList className="flex flex-wrap gap-1 border-b border-line">
          {["Result", "Steps", "Plan", `Late and rejected${tried ? ` (${count(tried.samples.length)})` : ""}`].map((t) => (
            <Tab key={t.split(" (")[0]} className="-mb-px cursor-pointer border-b-2 border-transparent px-3 py-2 font-medium text-soft data-[selected]:border-river data-[selected]:text-river">{t}</Tab>
          ))}
        </TabList>
        <TabPanels className="space-y-4 pt-4">
          <TabPanel className="space-y-4">
            {tried ? <Tried result={tried} onKeep={keepTest} /> : phase === "empty" ? (
              <Sheet><Empty>{isQuery ? "Run it live, or try it to the end on what there is or on a sample." : "A job or a query can be tried to its end: nothing is kept, and no sink is written."}</Empty></Sheet>
            ) : (
              <Sheet title={phase === "running" ? (live.current.paused ? "Paused; rows go on coming" : "Rows, as they come") : phase === "ended" ? "All rows have come" : "Stopped"}
                aside={sampled ? "rows come faster than they can be looked at: some are shown" : undefined}>
                {rows.length === 0 && phase === "running" ? <Empty>Waiting for rows …</Empty> : <Results columns={columns} rows={rows} total={total} note={phase === "running" ? "the newest first" : undefined} />}
              </Sheet>
            )}
          </TabPanel>
          <TabPanel className="space-y-4">{tried ? <TriedSteps result={tried} /> : <Sheet><Empty>Try the text: each step shows what it got and what it gave.</Empty></Sheet>}</TabPanel>
          <TabPanel>
            {plan ? (
              <Sheet title="How it would run" aside={plan.parallelism ? `${plan.parallelism} tasks` : "as many tasks as there are processors"}>
                <Suspense fallback={<p className="p-4 text-soft">Drawing …</p>}><Graph plan={plan} steps={tried?.status.steps} /></Suspense>
                <PlanTable checked={checked!} />
              </Sheet>
            ) : <Sheet><Empty>Write a query or a job: its steps, its state and what is read are shown here.</Empty></Sheet>}
          </TabPanel>
          <TabPanel className="space-y-4">
            {tried ? <><Reasons reasons={tried.reasons.map((r) => ({ ...r, kind: "rejected" as const }))} /><Sheet title="Late and rejected rows"><SampleRows rows={tried.samples} /></Sheet></>
              : <Sheet><Empty>Rows that are late, or no rows at all, are shown here when the text is tried.</Empty></Sheet>}
          </TabPanel>
        </TabPanels>
      </TabGroup>
      <Panel open={panel === "samples"} title="Samples" wide onClose={() => setPanel("")}>
        <Samples streams={streams} list={samples.data ?? []} chosen={chosen} onChoose={setChosen} />
      </Panel>
      <Panel open={panel === "deploy"} title="Deploy" wide onClose={() => setPanel("")}>{panel === "deploy" && <Deploy sql={sql} />}</Panel>
    </div>
  );
}

function PlanTable({ checked }: { checked: Checked }) {
  const plan = [...checked.statements].reverse().find((s) => s.plan)!.plan!;
  return (
    <>
      <Scroll className="border-t border-line">
        <table className="w-full">
          <thead><tr><Th>Step</Th><Th>Does</Th><Th>Result</Th><Th>State, at {count(plan.rows_per_second)} rows a second</Th></tr></thead>
          <tbody>
            {plan.steps.map((s) => (
              <tr key={s.id}>
                <Td><span className="font-medium">{s.step}</span> <span className="text-soft">{s.kind}</span></Td>
                <td className="border-t border-line/70 px-3 py-1.5 align-top text-xs">{s.detail}{s.reads && <span className="text-soft"> reads {s.reads.join(", ")}</span>}{s.promise && <span className="block text-soft">{s.promise}</span>}</td>
                <Td>{s.output ?? ""}{s.keys && s.keys.length > 0 && <span className="block text-xs text-soft">by {s.keys.join(", ")}</span>}</Td>
                <td className="border-t border-line/70 px-3 py-1.5 align-top text-xs">{s.state?.words}{s.state?.bytes ? <b className="font-medium"> {bytes(s.state.bytes)}</b> : null}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {plan.notes?.map((n) => <p key={n} className="border-t border-line px-4 py-2 text-xs text-soft">{n}</p>)}
    </>
  );
}

function Tried({ result, onKeep }: { result: TryResult; onKeep: () => void }) {
  return (
    <>
      {result.stopped && <Fault>{result.stopped}</Fault>}
      <p className="flex items-center gap-3 text-xs text-soft">
        <span data-testid="tried">Tried in {count(result.took_ms)} ms: {count(result.status.steps.filter((s) => s.kind === "scan" && !s.table).reduce((n, s) => n + s.counts.in, 0))} messages read. Nothing was kept.</span>
        <Button small testid="keep-test" onClick={onKeep}>Keep as a test</Button>
      </p>
      {result.results.map((r) => (
        <Sheet key={r.sink ?? "result"} title={r.sink ? `What would stand in ${r.sink}` : "Rows"}>
          <Results columns={r.columns} rows={r.rows as Row[]} total={r.total} />
        </Sheet>
      ))}
    </>
  );
}

/** For each step of a tried text what it got and gave, and its first rows. */
function TriedSteps({ result }: { result: TryResult }) {
  return result.status.steps.filter((s) => !s.table || s.counts.in > 0).map((s) => {
    const rows = (result.shown[String(s.id)] ?? []).map((r) => JSON.parse(r) as Row);
    const c = s.counts;
    const parts = [[c.filtered, "filtered"], [c.absorbed, "counted in results"], [c.late, "late"], [c.rejected, "rejected"], [c.held, "held"]].filter(([n]) => (n as number) > 0).map(([n, w]) => `${count(n as number)} ${w as string}`);
    return (
      <Sheet key={s.id} title={<>{s.step} <span className="font-normal text-soft">{s.kind}</span></>} aside={`${count(c.in)} in, ${count(s.out)} out${parts.length ? `; ${parts.join(", ")}` : ""}`}>
        <p className="px-4 py-2 text-xs text-soft">{s.detail}</p>
        {rows.length > 0 && (
          <table className="w-full">
            <thead><tr>{Object.keys(rows[0]!).map((k) => <Th key={k}>{k}</Th>)}</tr></thead>
            <tbody>{rows.slice(0, 5).map((r, i) => <tr key={i}>{Object.keys(rows[0]!).map((k) => <Td key={k} mono>{typeof r[k] === "object" ? JSON.stringify(r[k]) : String(r[k])}</Td>)}</tr>)}</tbody>
          </table>
        )}
      </Sheet>
    );
  });
}

/** Keeps samples, and chooses which stand for the streams of the text. */
function Samples({ streams, list, chosen, onChoose }: { streams: string[]; list: SampleInfo[]; chosen: Record<string, number>; onChoose: (c: Record<string, number>) => void }) {
  const cache = useQueryClient();
  const topics = useQuery({ queryKey: ["topics"], queryFn: api.topics });
  const [topic, setTopic] = useState("");
  const [limit, setLimit] = useState(500);
  const [problem, setProblem] = useState("");
  const keep = (f: () => Promise<unknown>) => {
    setProblem("");
    f().then(() => cache.invalidateQueries({ queryKey: ["samples"] }), (e: Error) => setProblem(e.message));
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
        <Field label="The newest messages of a topic">
          <Select testid="sample-topic" value={topic} onChange={(e) => setTopic(e.target.value)}><option value="">choose a topic</option>{topics.data?.map((t) => <option key={t.name}>{t.name}</option>)}</Select>
        </Field>
        <Field label="How many"><Input type="number" min={1} max={50000} value={limit} onChange={(e) => setLimit(Number(e.target.value))} className="w-24" /></Field>
        <Button testid="record" disabled={!topic} onClick={() => keep(() => api.keepSample({ topic, limit }))}>Record</Button>
        <Field label="Or a file: JSON, CSV, text, Avro or Parquet"><Input type="file" testid="upload" accept=".json,.ndjson,.jsonl,.csv,.txt,.log,.avro,.parquet" onChange={(e) => { const f = e.target.files?.[0]; if (f) keep(() => upload(f)); }} /></Field>
      </div>
      {streams.length > 0 && (
        <div className="space-y-2">
          <h3 className="text-sm font-semibold">What the text reads</h3>
          {streams.map((s) => (
            <label key={s} className="flex items-center gap-3"><span className="w-40 font-medium">{s}</span>
              <Select testid={`sample-of-${s}`} value={chosen[s] ?? 0} onChange={(e) => onChoose({ ...chosen, [s]: Number(e.target.value) })}>
                <option value={0}>what its place holds</option>
                {list.map((x) => <option key={x.id} value={x.id}>sample {x.id}: {x.name}, {count(x.messages)} messages</option>)}
              </Select>
            </label>
          ))}
        </div>
      )}
      <div className="rounded-lg border border-line">
        {list.length === 0 ? <Empty>No samples yet. Record the newest messages of a topic, or upload a file.</Empty> : (
          <table className="w-full" data-testid="sample-list">
            <thead><tr><Th>Sample</Th><Th>Name</Th><Th>From</Th><Th>Format</Th><Th right>Messages</Th><Th /></tr></thead>
            <tbody>{list.map((x) => <tr key={x.id}><Td>{x.id}</Td><Td>{x.name}</Td><Td>{x.origin}</Td><Td>{x.format}</Td><Td right>{count(x.messages)}</Td><Td right><Button small kind="danger" onClick={() => keep(() => api.dropSample(x.id))}>Drop</Button></Td></tr>)}</tbody>
          </table>
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
  const asProblem = (e: unknown) => setProblem(e instanceof Problem ? e : new Problem(0, String(e)));
  useEffect(() => {
    let on = true;
    const jobs = /create\s+(or\s+replace\s+)?job/i.test(sql);
    Promise.all([api.apply(sql, true), jobs ? api.connections({ sql }) : Promise.resolve([] as Connection[])])
      .then(([r, c]) => { if (on) { setWould(r.outcomes); setTests(c); } }, (e) => on && asProblem(e)).finally(() => on && setBusy(false));
    return () => { on = false; };
  }, [sql]);
  const apply = () => {
    setBusy(true);
    setProblem(undefined);
    api.apply(sql, false, begin === "at" ? "" : begin).then(async (r) => {
      setDone(r.outcomes);
      if (r.problem) throw new Problem(r.problem.status, r.problem.detail, r.problem.diagnostics ?? []);
      for (const o of r.outcomes) if (o.kind === "job" && tasks && o.name) await api.setParallelism(o.name, Number(tasks));
    }).catch(asProblem).finally(() => setBusy(false));
  };
  const creates = would?.some((o) => o.kind === "job" && o.done === "would be created");
  const failed = tests?.filter((t) => !t.ok).length ?? 0;
  return (
    <>
      {problem && (problem.diagnostics.length > 0 ? <Diagnostics list={problem.diagnostics} /> : <Fault>{problem.message}</Fault>)}
      {done ? (
        <div data-testid="deployed" className="space-y-1">
          {done.map((o, i) => <p key={i}>{o.kind} {o.kind === "job" ? <Link className="font-medium text-river hover:underline" to={`/jobs/${encodeURIComponent(o.name ?? "")}`}>{o.name}</Link> : <b>{o.name}</b>} {o.done}{o.note ? ` (${o.note})` : ""}</p>)}
        </div>
      ) : (
        <>
          <h3 className="text-sm font-semibold">What would change</h3>
          {!would ? <p className="text-soft">Looking …</p> : (
            <table className="w-full" data-testid="would">
              <tbody>{would.map((o, i) => <tr key={i}><Td><span className="text-soft">{o.kind}</span> <b>{o.name}</b></Td><Td>{o.done}</Td><td className="border-t border-line/70 px-3 py-1.5">{o.note && <span className="text-soft">{o.note}</span>}{o.changes && o.changes.length > 0 && <Changes list={o.changes} />}</td></tr>)}</tbody>
            </table>
          )}
          {tests && tests.length > 0 && <><h3 className="text-sm font-semibold">What it reads and writes{failed > 0 ? `: ${failed} cannot be used` : ""}</h3><div className="rounded-lg border border-line"><Connections list={tests} /></div></>}
          <div className="flex flex-wrap items-end gap-3">
            {creates && <Field label="New jobs read topics"><span className="flex gap-2"><Begin value={begin} onChange={setBegin} extra={{ value: "", label: "as their text says" }} /></span></Field>}
            {would?.some((o) => o.kind === "job") && <Field label="Tasks"><Input type="number" min={1} max={256} placeholder="as the text says" value={tasks} onChange={(e) => setTasks(e.target.value)} className="w-40" /></Field>}
            <Button testid="apply" kind="main" disabled={busy || !would} onClick={apply}>Deploy</Button>
          </div>
        </>
      )}
    </>
  );
}
