import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { lazy, Suspense, useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, followJob, Problem, type JobDetail, type Row, type Step } from "./api";
import { ago, Button, bytes, cell, Confirm, count, Empty, Fault, Panel, Rows, Sheet, State } from "./parts";
import { instant } from "./zone";
import { Joins } from "./joins";
import { Definition, StateTab } from "./state";
import { Windows } from "./windows";
import { Desk } from "./aside";
import { Log } from "./activity";
import { Charts } from "./history";
import { Why } from "./why";
import { perSecond, useRates } from "./rate";
import { say } from "./i18n";

const Graph = lazy(() => import("./graph"));

export function JobPage() {
  const { name = "" } = useParams();
  return <OneJob key={name} name={name} />;
}

function OneJob({ name }: { name: string }) {
  const go = useNavigate();
  const [seen, setSeen] = useState<{ job: JobDetail; at: number }>();
  const job = seen?.job;
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [dropping, setDropping] = useState(false);
  useEffect(() => {
    return followJob(
      name,
      (j) => {
        setSeen({ job: j, at: Date.now() });
        setProblem(undefined);
      },
      setProblem,
    );
  }, [name]);
  const act = (f: () => Promise<unknown>) => {
    setBusy(true);
    f()
      .then(() => setProblem(undefined), setProblem)
      .finally(() => setBusy(false));
  };
  if (!job) return problem ? <Fault>{problem.message}</Fault> : <p className="text-soft">{say("Loading …")}</p>;
  const lag = watermark(job);
  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-center gap-3">
        <Link to="/" className="text-soft hover:text-ink">
          {say("Jobs")}
        </Link>
        <span className="text-line">/</span>
        <h1 className="text-xl font-semibold">{job.name}</h1>
        <State state={job.state} />
        <span className="text-xs text-soft">{say("since {{0}}", { 0: ago(job.since) })}</span>
        <div className="ml-auto flex gap-2">
          <Button
            testid="start"
            disabled={busy || !["stopped", "failed"].includes(job.state)}
            onClick={() => act(() => api.startJob(name))}
          >
            {say("Start")}
          </Button>
          <Button
            testid="stop"
            disabled={busy || ["stopped", "finished", "stopping"].includes(job.state)}
            onClick={() => act(() => api.stopJob(name))}
          >
            {say("Stop")}
          </Button>
          <Button testid="drop" kind="danger" disabled={busy} onClick={() => setDropping(true)}>
            {say("Drop …")}
          </Button>
        </div>
      </div>
      {problem && <Fault>{problem.message}</Fault>}
      {job.reason &&
        (quiet(job.state) ? <p className="text-sm text-soft">{job.reason}</p> : <Fault>{job.reason}</Fault>)}
      {job.abandoned && (
        <Fault>
          {say("No checkpoint since {{0}}, tried {{1}} times; the job goes on: {{2}}", {
            0: ago(job.abandoned.since),
            1: count(job.abandoned.tries),
            2: job.abandoned.reason,
          })}
        </Fault>
      )}
      <dl className="grid grid-cols-2 gap-3 md:grid-cols-3 xl:grid-cols-6">
        <Figure label={say("Rows in")}>{count(job.rows_in)}</Figure>
        <Figure label={say("Rows out")}>{count(job.rows_out)}</Figure>
        {(job.lost ?? 0) > 0 && (
          <Figure label={say("Lost")} tone="text-clay">
            {count(job.lost!)}
          </Figure>
        )}
        <Figure label={say("Late")} tone={job.late ? "text-sand" : ""}>
          {count(job.late)}
        </Figure>
        <Figure label={say("Rejected")} tone={job.rejected ? "text-clay" : ""}>
          {count(job.rejected)}
        </Figure>
        <Figure label={say("Watermark")} small>
          {instant(lag)}
        </Figure>
        <Figure label={say("Checkpoint")} small>
          {job.checkpoint
            ? say("no. {{0}}, {{1}}, {{2}}", {
                0: job.checkpoint.number,
                1: ago(job.checkpoint.at),
                2: bytes(job.checkpoint.bytes),
              })
            : say("none yet")}
        </Figure>
      </dl>
      <TabGroup>
        <TabList className="flex overflow-x-auto border-b border-line">
          {[
            "Graph",
            "Steps",
            "Windows",
            "Joins and tables",
            "State and sinks",
            "Newest rows",
            `Late (${count(job.late)})`,
            `Rejected (${count(job.rejected)})`,
            "Definition",
            "Activity",
          ].map((t, i) => (
            <Tab
              key={i}
              className="-mb-px cursor-pointer border-b-2 border-transparent px-2.5 py-2 font-medium whitespace-nowrap text-soft data-[selected]:border-river data-[selected]:text-river"
            >
              {t}
            </Tab>
          ))}
        </TabList>
        <TabPanels className="pt-4">
          <TabPanel className="space-y-4">
            <Flow job={job} at={seen.at} />
            <Charts job={job.name} />
          </TabPanel>
          <TabPanel className="space-y-4">
            <Ledger steps={job.status.steps} at={seen.at} running={job.state === "running"} />
            <Splits job={job} />
          </TabPanel>
          <TabPanel className="space-y-4">
            {job.status.steps.some((s) => s.kind === "window") ? (
              <Windows job={job} />
            ) : (
              <Sheet>
                <Empty>{say("No step of the job has windows.")}</Empty>
              </Sheet>
            )}
            <Splits job={job} />
          </TabPanel>
          <TabPanel className="space-y-4">
            <Joins job={job} />
          </TabPanel>
          <TabPanel className="space-y-4">
            <StateTab job={job} />
          </TabPanel>
          <TabPanel className="space-y-4">
            <Newest job={job} />
          </TabPanel>
          <TabPanel>
            <Desk job={job.name} kind="late" />
          </TabPanel>
          <TabPanel>
            <Desk job={job.name} kind="rejected" />
          </TabPanel>
          <TabPanel className="space-y-4">
            <Definition job={job} />
          </TabPanel>
          <TabPanel>
            <Log object={job.name} />
          </TabPanel>
        </TabPanels>
      </TabGroup>
      <Confirm
        open={dropping}
        title={say("Drop the job {{0}}?", { 0: job.name })}
        onClose={() => setDropping(false)}
        action={{ label: say("Drop it"), run: () => act(() => api.dropJob(name).then(() => go("/"))) }}
      >
        {say("It is stopped, and its place in the streams and its state are forgotten. What it has written stays.")}
      </Confirm>
    </div>
  );
}

/** The job as a graph: rows a second in and out of each step, the share that passes, queues, state, watermarks. */
function Flow({ job, at }: { job: JobDetail; at: number }) {
  const rates = useRates(
    at,
    Object.fromEntries(
      job.status.steps.flatMap((s) => [
        [`${s.id} in`, s.counts.in],
        [`${s.id} out`, s.out],
      ]),
    ),
  );
  if (!job.plan)
    return (
      <Sheet>
        <Empty>{say("The text of the job cannot be read any more.")}</Empty>
      </Sheet>
    );
  return (
    <Sheet
      title={say("What flows")}
      aside={
        job.state === "running" ? "rows a second; the bar in a step is how full its queue is" : "the job does not run"
      }
    >
      <Suspense fallback={<p className="p-4 text-soft">{say("Drawing …")}</p>}>
        <Graph plan={job.plan} steps={job.status.steps} rates={job.state === "running" ? rates : undefined} />
      </Suspense>
    </Sheet>
  );
}

/** The least watermark of the splits that are being read. */
function watermark(job: JobDetail): number | undefined {
  const ws = job.status.splits.filter((s) => !s.idle && !s.ended && !s.table).map((s) => s.watermark);
  if (ws.length === 0 || ws.some((w) => w === undefined)) return undefined;
  return Math.min(...(ws as number[]));
}

function Figure({
  label,
  children,
  tone = "",
  small,
}: {
  label: string;
  children: React.ReactNode;
  tone?: string;
  small?: boolean;
}) {
  return (
    <div className="rounded-lg border border-line bg-sheet px-4 py-3">
      <dt className="text-xs text-soft">{label}</dt>
      <dd className={`mt-1 tabular-nums ${small ? "text-xs leading-5" : "text-lg font-semibold"} ${tone}`}>
        {children}
      </dd>
    </div>
  );
}

const plural = (n: number, what: string) => `${count(n)} ${what}${n === 1 ? "" : "s"}`;

const verbs: Record<string, string> = {
  scan: "reads",
  filter: "filters",
  project: "computes",
  window: "aggregates",
  unique: "keeps the first",
  over: "looks around",
  explode: "unnests",
  route: "routes",
  output: "writes",
  side: "shares out",
  join: "pairs",
  table: "keeps",
  lookup: "looks up",
  "as of": "joins as of",
  union: "puts together",
  settle: "settles",
};

/** Where every row went: in each line, in = passed + filtered + absorbed + late + rejected + held. */
function Ledger({ steps, running, at }: { steps: Step[]; running: boolean; at: number }) {
  const rates = useRates(at, Object.fromEntries(steps.map((s) => [`${s.id} out`, s.out])));
  const num = (n: number, tone = "") => <span className={n === 0 ? "text-soft/50" : tone}>{count(n)}</span>;
  return (
    <Sheet
      title={say("Steps and ledger")}
      aside="in = passed + filtered + absorbed + late + rejected + held; out = passed + made + withdrawn"
    >
      {steps.length === 0 ? (
        <Empty>{say("The job has not read anything yet.")}</Empty>
      ) : (
        <Rows
          testid="ledger"
          of={steps}
          id={(s) => s.id}
          columns={[
            {
              head: say("Step"),
              wrap: "w-full max-w-0 min-w-44",
              of: (s) => (
                <>
                  <div className="truncate">
                    <span className="font-medium">{s.step}</span>{" "}
                    <span className="text-soft">{verbs[s.kind] ?? s.kind}</span>
                  </div>
                  <div className="truncate text-xs text-soft" title={s.detail}>
                    {s.detail}
                  </div>
                  {s.kind === "window" && (
                    <div className="text-xs text-soft">
                      {say("{{0}}, {{1}}, {{2}}; closed up to {{3}}", {
                        0: plural(s.windows ?? 0, "open window"),
                        1: plural(s.keys ?? 0, "key"),
                        2: bytes(s.bytes ?? 0),
                        3: instant(s.watermark),
                      })}
                    </div>
                  )}
                  {s.kind === "side" && (
                    <div className="text-xs text-soft">
                      {say("{{0}} held, {{1}}", { 0: plural(s.rows ?? 0, "row"), 1: bytes(s.bytes ?? 0) })}
                    </div>
                  )}
                  {["join", "as of", "lookup"].includes(s.kind) && (
                    <div className="text-xs text-soft">
                      {say("{{0}}, {{1}} without one", {
                        0: plural(s.counts.matched ?? 0, "match").replace("matchs", "matches"),
                        1: plural(s.counts.unmatched ?? 0, "row"),
                      })}
                    </div>
                  )}
                  {(s.kind === "unique" || s.kind === "over") && (
                    <div className="text-xs text-soft">
                      {say("{{0}} waiting, {{1}}, {{2}}; taken up to {{3}}", {
                        0: plural(s.windows ?? 0, "row"),
                        1: plural(s.keys ?? 0, "key"),
                        2: bytes(s.bytes ?? 0),
                        3: instant(s.watermark),
                      })}
                    </div>
                  )}
                </>
              ),
            },
            { head: say("In"), right: true, of: (s) => num(s.counts.in) },
            { head: say("Passed"), right: true, of: (s) => num(s.counts.passed) },
            { head: say("Filtered"), right: true, of: (s) => num(s.counts.filtered) },
            { head: say("Absorbed"), right: true, of: (s) => num(s.counts.absorbed) },
            { head: say("Late"), right: true, of: (s) => num(s.counts.late, "text-sand") },
            { head: say("Rejected"), right: true, of: (s) => num(s.counts.rejected, "text-clay") },
            { head: say("Held"), right: true, of: (s) => num(s.counts.held) },
            {
              head: say("Made"),
              right: true,
              of: (s) => (
                <>
                  {num(s.counts.made)}
                  {s.counts.withdrawn ? (
                    <div className="text-xs text-soft" title={say("results that were replaced or taken back")}>
                      −{count(s.counts.withdrawn)}
                    </div>
                  ) : null}
                </>
              ),
            },
            { head: say("Out"), right: true, of: (s) => num(s.out) },
            {
              head: say("Out a second"),
              right: true,
              of: (s) => <span className="text-xs text-soft">{running ? perSecond(rates[`${s.id} out`]) : "–"}</span>,
            },
          ]}
        />
      )}
    </Sheet>
  );
}

/** Whether a reason in a state is no fault. */
function quiet(state: string) {
  return state === "finished" || state === "running";
}

function Splits({ job }: { job: JobDetail }) {
  const newest = Math.max(...job.status.splits.filter((s) => !s.table).map((s) => s.newest_at ?? 0));
  return (
    <Sheet title={say("Splits")}>
      {job.status.splits.length === 0 ? (
        <Empty>{say("No split has been read yet.")}</Empty>
      ) : (
        <Rows
          of={job.status.splits}
          id={(s) => `${s.stream} ${s.split}`}
          columns={[
            { head: say("Stream"), of: (s) => s.stream },
            { head: say("Split"), mono: true, of: (s) => s.split },
            { head: say("Next position"), right: true, of: (s) => count(s.next) },
            { head: say("Waiting"), right: true, of: (s) => (s.left === undefined ? "–" : count(s.left)) },
            { head: say("Newest event time"), mono: true, of: (s) => instant(s.newest_at) },
            { head: say("Watermark"), mono: true, of: (s) => instant(s.watermark) },
            {
              head: say("Behind"),
              right: true,
              of: (s) =>
                s.newest_at !== undefined && s.watermark !== undefined
                  ? `${((newest - s.watermark) / 1e6).toFixed(1)} s`
                  : "–",
            },
            {
              head: say("State"),
              of: (s) => (
                <span className="text-soft">
                  {(s.waiting && `waiting since ${ago(s.waiting.since)}, because ${s.waiting.reason}`) ||
                    s.notice ||
                    (s.ended
                      ? say("ended")
                      : s.idle
                        ? s.table
                          ? say("up to date")
                          : say("idle")
                        : s.holds
                          ? say("silent; the others wait for it")
                          : say("reading"))}
                </span>
              ),
            },
          ]}
        />
      )}
    </Sheet>
  );
}

function Newest({ job }: { job: JobDetail }) {
  const [asked, setAsked] = useState<{ sink: string; row: Row }>();
  // Rows hold still under the pointer, so that the one that is pressed is the one that was read.
  const [held, setHeld] = useState<JobDetail["newest"]>();
  const hold = () => setHeld((h) => h ?? job.newest);
  const steps = Object.entries(held ?? job.newest);
  const outputs = job.status.steps.filter((s) => s.kind === "output");
  const routes = new Map<string, string>(); // steps that go to a sink as they are
  for (const o of job.plan?.steps ?? []) {
    if (o.kind !== "output") continue;
    let at = o.inputs?.[0] ?? job.plan?.steps.findIndex((s) => s.kind === "route" && s.detail.includes(o.step));
    while (
      at !== undefined &&
      at >= 0 &&
      job.plan?.steps[at] &&
      ["route", "settle", "side"].includes(job.plan.steps[at]!.kind)
    )
      at = job.plan.steps[at]!.inputs?.[0];
    const from = at === undefined ? undefined : job.plan?.steps[at];
    if (from && !routes.has(from.step) && !["late", "rejected"].some((k) => o.detail.startsWith(k)))
      routes.set(from.step, o.step);
  }
  if (steps.length === 0)
    return (
      <Sheet>
        <Empty>{say("Rows are shown while the job runs.")}</Empty>
      </Sheet>
    );
  return (
    <>
      <div
        className="space-y-4"
        onMouseEnter={hold}
        onMouseLeave={() => setHeld(undefined)}
        onFocus={hold}
        onBlur={() => setHeld(undefined)}
      >
        {steps.map(([step, rows]) => {
          const parsed = rows
            .map((r) => JSON.parse(r) as Row)
            .reverse()
            .slice(0, 8);
          const columns = Object.keys(parsed[0] ?? {});
          const sink = routes.get(step) ?? (outputs.length === 1 && step === job.name ? outputs[0]!.step : undefined);
          return (
            <Sheet
              key={step}
              title={step}
              aside={
                held ? say("held still while you point at them") : say("a sample of the newest rows, the newest first")
              }
            >
              {parsed.length === 0 ? (
                <Empty>{say("No rows yet.")}</Empty>
              ) : (
                <Rows
                  testid={`newest-${step}`}
                  of={parsed}
                  id={(_, i) => i}
                  columns={[
                    ...columns.map((c) => ({ head: c, mono: true, of: (r: Row) => cell(r[c]) })),
                    ...(sink
                      ? [
                          {
                            right: true,
                            of: (r: Row) => (
                              <Button small testid="why" onClick={() => setAsked({ sink, row: r })}>
                                {say("Why?")}
                              </Button>
                            ),
                          },
                        ]
                      : []),
                  ]}
                />
              )}
            </Sheet>
          );
        })}
      </div>
      <Panel open={asked !== undefined} wide title={say("Why is this row there?")} onClose={() => setAsked(undefined)}>
        {asked && <Why job={job.name} sink={asked.sink} row={asked.row} />}
      </Panel>
    </>
  );
}
