// What a job keeps, what its sinks promise, its checkpoints and its versions, and how to give it another text.
import { useEffect, useState } from "react";
import { VersionDiff } from "./activity";
import { api, Problem, type Change, type JobDetail, type JobState, type Version } from "./api";
import { Changes } from "./found";
import { PresentPanel } from "./present";
import { ago, Button, bytes, count, Empty, Fault, Rows, Scroll, Sheet } from "./parts";
import { say } from "./i18n";

/** State by step, sinks and checkpoints; looked at again while the page is open. */
export function StateTab({ job }: { job: JobDetail }) {
  const [state, setState] = useState<JobState>();
  const [problem, setProblem] = useState<Problem>();
  const [looked, setLooked] = useState<string>();
  const number = job.checkpoint?.number;
  useEffect(() => {
    let on = true;
    api.jobState(job.name).then(
      (s) => {
        if (on) {
          setState(s);
          setProblem(undefined);
        }
      },
      (p) => on && setProblem(p),
    );
    return () => {
      on = false;
    };
  }, [job.name, number, job.state]);
  if (problem) return <Fault>{problem.message}</Fault>;
  if (!state) return <p className="text-soft">{say("Loading …")}</p>;
  return (
    <>
      {looked && <PresentPanel job={job.name} step={looked} onClose={() => setLooked(undefined)} />}
      <Sheet
        title={say("What the steps keep")}
        aside={`at most ${bytes(state.memory)} in memory; growth over the last five minutes`}
      >
        {state.steps.length === 0 ? (
          <Empty>{say("No step of the job keeps anything.")}</Empty>
        ) : (
          <Rows
            testid="state"
            of={state.steps}
            id={(s) => s.id}
            columns={[
              {
                head: say("Step"),
                of: (s) => (
                  <>
                    <span className="font-medium">{s.step}</span> <span className="text-soft">{s.kind}</span>
                    <div className="text-xs text-soft">
                      {s.detail}
                      {s.parked > 0 && `; ${count(s.parked)} parts wait on disk`}
                    </div>
                  </>
                ),
              },
              { head: say("Keys"), right: true, of: (s) => count(s.keys) },
              { head: say("Rows"), right: true, of: (s) => count(s.rows) },
              { head: say("In memory"), right: true, of: (s) => bytes(s.bytes) },
              { head: say("On disk"), right: true, of: (s) => bytes(s.disk) },
              {
                head: say("Bytes a minute"),
                right: true,
                of: (s) =>
                  s.growth === undefined ? "–" : `${s.growth < 0 ? "−" : "+"}${bytes(Math.abs(Math.round(s.growth)))}`,
              },
              {
                of: (s) =>
                  job.state === "running" &&
                  (s.kind === "window" || s.kind === "table") && (
                    <Button small testid={`present-${s.step}`} onClick={() => setLooked(s.step)}>
                      {say("Rows")}
                    </Button>
                  ),
              },
            ]}
          />
        )}
      </Sheet>
      <Sheet title={say("Sinks")}>
        <Rows
          testid="promises"
          of={state.sinks}
          id={(s) => s.sink}
          columns={[
            {
              head: say("Sink"),
              of: (s) => (
                <>
                  <span className="font-medium">{s.sink}</span>
                  <div className="text-xs text-soft">{s.place}</div>
                </>
              ),
            },
            {
              head: say("Promise"),
              wrap: "",
              of: (s) => (
                <>
                  {s.promise}
                  {s.missing > 0 && (
                    <div className="text-sand">
                      {say(
                        "{{0}} rows from before the last start have not come again; where that stays, what was read again gave other rows",
                        { 0: count(s.missing) },
                      )}
                    </div>
                  )}
                  {s.waiting && (
                    <div className="text-clay">
                      {say("retrying since {{0}}, {{1}} tries, because {{2}}", {
                        0: ago(s.waiting.since),
                        1: count(s.waiting.tries),
                        2: s.waiting.reason,
                      })}
                    </div>
                  )}
                </>
              ),
            },
            { head: say("Held back"), right: true, of: (s) => bytes(s.spooled) },
          ]}
        />
      </Sheet>
      <Sheet title={say("Checkpoints")} aside="those that are kept">
        {state.checkpoints.length === 0 ? (
          <Empty>{say("There is no checkpoint yet.")}</Empty>
        ) : (
          <Rows
            of={state.checkpoints}
            id={(c) => c.number}
            columns={[
              { head: say("Number"), of: (c) => count(c.number) },
              { head: say("Taken"), of: (c) => ago(c.at) },
              { head: say("Version of the job"), right: true, of: (c) => c.version },
              { head: say("Bytes of state"), right: true, of: (c) => bytes(c.bytes) },
              { head: say("Took"), right: true, of: (c) => <>{say("{{0}} ms", { 0: count(c.took_ms) })}</> },
            ]}
          />
        )}
      </Sheet>
    </>
  );
}

function diffOf(versions: Version[], n: number) {
  const i = versions.findIndex((v) => v.version === n);
  const to = versions[i],
    from = versions[i + 1];
  return to && from ? <VersionDiff from={from} to={to} /> : null;
}

/** The text of a job, to change; what a new text takes over is said before it does. */
export function Definition({ job }: { job: JobDetail }) {
  const [text, setText] = useState<string>();
  const [changes, setChanges] = useState<Change[]>();
  const [checked, setChecked] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [shown, setShown] = useState(0);
  const [versions, setVersions] = useState<Version[]>([]);
  useEffect(() => {
    let on = true;
    api.versions(job.name).then(
      (v) => on && setVersions(v),
      () => undefined,
    );
    return () => {
      on = false;
    };
  }, [job.name, job.version]);
  const run = (f: () => Promise<void>) => {
    setBusy(true);
    setProblem(undefined);
    f()
      .catch(setProblem)
      .finally(() => setBusy(false));
  };
  const begin = (sql: string) => {
    setText(sql.replace(/^CREATE JOB/i, "CREATE OR REPLACE JOB"));
    setChanges(undefined);
    setProblem(undefined);
  };
  const check = () =>
    run(async () => {
      setChanges(undefined);
      const r = await api.apply(text ?? "", true);
      setChanges(r.outcomes[0]?.changes ?? []);
      setChecked(text ?? "");
    });
  const replace = () =>
    run(async () => {
      await api.applyAll(text ?? "");
      setText(undefined);
      setChanges(undefined);
    });
  return (
    <>
      {text === undefined ? (
        <Sheet
          title={say("SQL, version {{0}}", { 0: job.version })}
          aside={
            <Button testid="edit" onClick={() => begin(job.sql)}>
              {say("Change …")}
            </Button>
          }
        >
          <Scroll as="pre" className="p-4 font-mono text-xs leading-relaxed">
            {job.sql}
          </Scroll>
        </Sheet>
      ) : (
        <Sheet title={say("A new version")} aside="it takes over place and state at a checkpoint">
          <div className="space-y-3 p-4">
            <textarea
              aria-label={say("SQL of the new version")}
              data-testid="new-version"
              spellCheck={false}
              rows={Math.min(24, text.split("\n").length + 1)}
              value={text}
              onChange={(e) => setText(e.target.value)}
              className="w-full rounded-md border border-line bg-sheet p-3 font-mono text-xs leading-relaxed focus-visible:outline-2 focus-visible:outline-river"
            />
            <div className="flex gap-2">
              <Button testid="what-changes" disabled={busy} onClick={check}>
                {say("What would change?")}
              </Button>
              <Button
                testid="replace"
                kind="main"
                disabled={busy || changes === undefined || checked !== text}
                onClick={replace}
              >
                {say("Take over")}
              </Button>
              <Button disabled={busy} onClick={() => setText(undefined)}>
                {say("Leave it")}
              </Button>
            </div>
            {problem && (
              <Fault>
                {problem.message}
                {problem.diagnostics.map((d, i) => (
                  <div key={i} className="font-mono text-xs">
                    {d.line}:{d.column} {d.message}
                    {d.hint ? ` (${d.hint})` : ""}
                  </div>
                ))}
              </Fault>
            )}
            {changes &&
              checked === text &&
              (changes.length === 0 ? <Empty>{say("The text means the same.")}</Empty> : <Changes list={changes} />)}
          </div>
        </Sheet>
      )}
      {versions.length > 1 && (
        <Sheet title={say("Versions")}>
          <Rows
            testid="versions"
            of={versions}
            id={(v) => v.version}
            columns={[
              {
                head: say("Version"),
                of: (v) => (
                  <>
                    {v.version}
                    {v.version === job.version ? say(" (this one)") : ""}
                  </>
                ),
              },
              { head: say("Since"), of: (v) => ago(v.created_at) },
              { head: say("By"), of: (v) => v.actor },
              {
                right: true,
                of: (v) => (
                  <span className="flex justify-end gap-2">
                    {versions.some((x) => x.version < v.version) && (
                      <Button small testid="show-diff" onClick={() => setShown(shown === v.version ? 0 : v.version)}>
                        {shown === v.version ? say("Hide the differences") : say("What changed")}
                      </Button>
                    )}
                    {v.version !== job.version && (
                      <Button small onClick={() => begin(v.sql)}>
                        {say("Go back to it …")}
                      </Button>
                    )}
                  </span>
                ),
              },
            ]}
          />
          {shown > 0 && <div className="p-4">{diffOf(versions, shown)}</div>}
        </Sheet>
      )}
      <Sheet title={say("Plan")}>
        <Scroll as="pre" className="p-4 font-mono text-xs leading-relaxed">
          {job.explain}
        </Scroll>
      </Sheet>
    </>
  );
}
