import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api } from "./api";
import { ago, count, Empty, Fault, Rows, Sheet, State } from "./parts";
import { perSecond, useRates } from "./rate";

export function JobsPage() {
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: api.jobs, refetchInterval: 1000 });
  const rates = useRates(
    jobs.dataUpdatedAt,
    Object.fromEntries(
      (jobs.data ?? []).flatMap((j) => [
        [`${j.name} in`, j.rows_in],
        [`${j.name} out`, j.rows_out],
      ]),
    ),
  );
  return (
    <div className="space-y-4">
      <h1 className="text-xl font-semibold">Jobs</h1>
      {jobs.error && <Fault>{jobs.error.message}</Fault>}
      <Sheet>
        {jobs.data?.length === 0 ? (
          <Empty>
            No jobs yet.{" "}
            <Link className="text-river underline" to="/work">
              Write one
            </Link>
            , or create one with <code className="font-mono">fiume apply FILE.sql</code>, or look at the demo:{" "}
            <code className="font-mono">fiume demo</code>.
          </Empty>
        ) : (
          <Rows
            testid="jobs"
            of={jobs.data ?? []}
            id={(j) => j.name}
            columns={[
              {
                head: "Job",
                of: (j) => (
                  <Link className="font-medium text-river hover:underline" to={`/jobs/${encodeURIComponent(j.name)}`}>
                    {j.name}
                  </Link>
                ),
              },
              {
                head: "State",
                of: (j) => (
                  <>
                    <State state={j.state} />
                    {j.reason && <div className="mt-1 max-w-xl text-xs whitespace-normal text-clay">{j.reason}</div>}
                  </>
                ),
              },
              {
                head: "Rows in",
                right: true,
                of: (j) => (
                  <>
                    {count(j.rows_in)}{" "}
                    <span className="ml-1 inline-block w-16 text-xs text-soft">{perSecond(rates[`${j.name} in`])}</span>
                  </>
                ),
              },
              {
                head: "Rows out",
                right: true,
                of: (j) => (
                  <>
                    {count(j.rows_out)}{" "}
                    <span className="ml-1 inline-block w-16 text-xs text-soft">
                      {perSecond(rates[`${j.name} out`])}
                    </span>
                  </>
                ),
              },
              {
                head: "Late",
                right: true,
                of: (j) => <span className={j.late ? "text-sand" : "text-soft"}>{count(j.late)}</span>,
              },
              {
                head: "Rejected",
                right: true,
                of: (j) => <span className={j.rejected ? "text-clay" : "text-soft"}>{count(j.rejected)}</span>,
              },
              { head: "Since", of: (j) => <span className="text-soft">{ago(j.since)}</span> },
            ]}
          />
        )}
      </Sheet>
    </div>
  );
}
