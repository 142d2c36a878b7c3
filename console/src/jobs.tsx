import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api } from "./api";
import { ago, count, Empty, Fault, Sheet, State, Td, Th } from "./parts";
import { perSecond, useRates } from "./rate";

export function JobsPage() {
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: api.jobs, refetchInterval: 1000 });
  const rates = useRates(Object.fromEntries((jobs.data ?? []).flatMap((j) => [[`${j.name} in`, j.rows_in], [`${j.name} out`, j.rows_out]])));
  return (
    <div className="space-y-4">
      <h1 className="text-xl font-semibold">Jobs</h1>
      {jobs.error && <Fault>{jobs.error.message}</Fault>}
      <Sheet>
        {jobs.data?.length === 0 ? (
          <Empty>No jobs yet. <Link className="text-river underline" to="/work">Write one</Link>, or create one with <code className="font-mono">fiume apply FILE.sql</code>, or look at the demo: <code className="font-mono">fiume demo</code>.</Empty>
        ) : (
          <table className="w-full" data-testid="jobs">
            <thead>
              <tr><Th>Job</Th><Th>State</Th><Th right>Rows in</Th><Th right>Rows out</Th><Th right>Late</Th><Th right>Rejected</Th><Th>Since</Th></tr>
            </thead>
            <tbody>
              {jobs.data?.map((j) => (
                <tr key={j.name} className="hover:bg-paper/70">
                  <Td><Link className="font-medium text-river hover:underline" to={`/jobs/${encodeURIComponent(j.name)}`}>{j.name}</Link></Td>
                  <Td>
                    <State state={j.state} />
                    {j.reason && <div className="mt-1 max-w-xl text-xs whitespace-normal text-clay">{j.reason}</div>}
                  </Td>
                  <Td right>{count(j.rows_in)} <span className="ml-1 inline-block w-16 text-xs text-soft">{perSecond(rates[`${j.name} in`])}</span></Td>
                  <Td right>{count(j.rows_out)} <span className="ml-1 inline-block w-16 text-xs text-soft">{perSecond(rates[`${j.name} out`])}</span></Td>
                  <Td right><span className={j.late ? "text-sand" : "text-soft"}>{count(j.late)}</span></Td>
                  <Td right><span className={j.rejected ? "text-clay" : "text-soft"}>{count(j.rejected)}</span></Td>
                  <Td><span className="text-soft">{ago(j.since)}</span></Td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Sheet>
    </div>
  );
}
