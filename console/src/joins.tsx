// What joins and tables hold, and what joins have given.
import type { JobDetail, Step } from "./api";
import { bytes, count, Empty, Rows, Sheet } from "./parts";
import { say } from "./i18n";

const kinds = ["join", "as of", "lookup", "table"];

/** For each join and table of a job: its bound, its sides with what they hold, and its results. */
export function Joins({ job }: { job: JobDetail }) {
  const steps = job.status.steps.filter((s) => kinds.includes(s.kind));
  if (steps.length === 0)
    return (
      <Sheet>
        <Empty>{say("The job joins nothing and reads no table.")}</Empty>
      </Sheet>
    );
  return steps.map((s) => <OneJoin key={s.id} step={s} sides={job.status.steps.filter((x) => x.into === s.id)} />);
}

function OneJoin({ step, sides }: { step: Step; sides: Step[] }) {
  const table = step.kind === "table";
  const given = (step.counts.matched ?? 0) + (step.counts.unmatched ?? 0);
  const share = given === 0 ? 0 : (step.counts.matched ?? 0) / given;
  return (
    <Sheet title={table ? `Table ${step.step}` : step.step} aside={step.detail}>
      <div data-testid={`join-${step.step}-${step.id}`}>
        {!table && (
          <div className="flex flex-wrap items-center gap-x-8 gap-y-2 px-4 py-3">
            <div>
              <div className="text-xs text-soft">{say("Bound")}</div>
              <div>{step.bound}</div>
            </div>
            <div>
              <div className="text-xs text-soft">{say("Matches")}</div>
              <div className="tabular-nums">{count(step.counts.matched ?? 0)}</div>
            </div>
            <div>
              <div className="text-xs text-soft">{say("Rows given without a match")}</div>
              <div className="tabular-nums">{count(step.counts.unmatched ?? 0)}</div>
            </div>
            {given > 0 && (
              <div className="min-w-40 flex-1">
                <div className="text-xs text-soft">
                  {say("{{0}} % of the results are matches", { 0: (share * 100).toFixed(1) })}
                </div>
                <div className="mt-1.5 h-2 overflow-hidden rounded-full bg-sand-pale">
                  <div className="h-full bg-river" style={{ width: `${share * 100}%` }} />
                </div>
              </div>
            )}
          </div>
        )}
        {sides.length > 0 && (
          <Rows
            of={sides}
            id={(s) => s.id}
            columns={[
              { head: table ? "Key" : "Side", of: (s) => s.detail },
              { head: say("Rows in"), right: true, of: (s) => count(s.counts.in) },
              { head: say("Late"), right: true, of: (s) => count(s.counts.late) },
              { head: say("Rejected"), right: true, of: (s) => count(s.counts.rejected) },
              { head: say("Rows held"), right: true, of: (s) => count(s.rows ?? 0) },
              { head: say("Bytes held"), right: true, of: (s) => bytes(s.bytes ?? 0) },
            ]}
          />
        )}
      </div>
    </Sheet>
  );
}
