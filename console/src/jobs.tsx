import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Job } from "./api";
import { ago, count, Empty, Fault, Field, Input, Rows, Select, Sheet, State } from "./parts";
import { perSecond, useRates } from "./rate";
import { OfferVisit } from "./visit";
import { Welcome } from "./welcome";
import { say } from "./i18n";

/** Whether something about a job wants looking after, in words; "": nothing does. */
export function trouble(j: Job): string {
  if (["failed", "retrying"].includes(j.state)) return j.reason || `it is ${j.state}`;
  if (j.lost) return `${count(j.lost)} messages were lost before they were read`;
  return j.reason ?? "";
}

export function JobsPage() {
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: api.jobs, refetchInterval: 1000 });
  const [text, setText] = useState("");
  const [only, setOnly] = useState("");
  const rates = useRates(
    jobs.dataUpdatedAt,
    Object.fromEntries(
      (jobs.data ?? []).flatMap((j) => [
        [`${j.name} in`, j.rows_in],
        [`${j.name} out`, j.rows_out],
      ]),
    ),
  );
  const all = jobs.data ?? [];
  const running = all.filter((j) => j.state === "running").length;
  const troubled = all.filter((j) => trouble(j) !== "").length;
  const shown = all.filter(
    (j) =>
      j.name.toLowerCase().includes(text.trim().toLowerCase()) &&
      (only === "" || (only === "trouble" ? trouble(j) !== "" : j.state === only)),
  );
  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-end gap-3">
        <h1 className="text-xl font-semibold">{say("Jobs")}</h1>
        {all.length > 0 && (
          <span className="pb-0.5 text-soft" data-testid="health">
            {say("{{0}} of {{1}} running", { 0: running, 1: all.length })}
            {troubled > 0 && <span className="text-clay">{say(", {{0}} want looking after", { 0: troubled })}</span>}
          </span>
        )}
        {all.length > 0 && <OfferVisit jobs={all.map((j) => j.name)} />}
        {all.length > 0 && (
          <span className="ml-auto flex flex-wrap gap-3">
            <Field label={say("Name")}>
              <Input testid="filter" value={text} onChange={(e) => setText(e.target.value)} placeholder={say("any")} />
            </Field>
            <Field label={say("Only")}>
              <Select testid="only" value={only} onChange={(e) => setOnly(e.target.value)}>
                <option value="">{say("all")}</option>
                <option value="trouble">{say("what wants looking after")}</option>
                {["running", "retrying", "failed", "stopped", "finished"].map((s) => (
                  <option key={s}>{s}</option>
                ))}
              </Select>
            </Field>
          </span>
        )}
      </div>
      {jobs.error && <Fault>{jobs.error.message}</Fault>}
      {jobs.data?.length === 0 && <Welcome />}
      {all.length > 0 && (
        <Sheet>
          {shown.length === 0 ? (
            <Empty>{say("No job is like that.")}</Empty>
          ) : (
            <Rows
              testid="jobs"
              of={shown}
              id={(j) => j.name}
              columns={[
                {
                  head: say("Job"),
                  of: (j) => (
                    <Link className="font-medium text-river hover:underline" to={`/jobs/${encodeURIComponent(j.name)}`}>
                      {j.name}
                    </Link>
                  ),
                },
                {
                  head: say("State"),
                  of: (j) => (
                    <>
                      <State state={j.state} />
                      {trouble(j) && (
                        <div className="mt-1 max-w-xs text-xs whitespace-normal text-clay">{trouble(j)}</div>
                      )}
                    </>
                  ),
                },
                {
                  head: say("Read, five minutes"),
                  of: (j) => <Line of={j.recent} />,
                },
                {
                  head: say("Rows in"),
                  right: true,
                  of: (j) => <Counted n={j.rows_in} rate={rates[`${j.name} in`]} />,
                },
                {
                  head: say("Rows out"),
                  right: true,
                  of: (j) => <Counted n={j.rows_out} rate={rates[`${j.name} out`]} />,
                },
                {
                  head: say("Waiting"),
                  right: true,
                  of: (j) => <span className={j.left > 0 ? "" : "text-soft"}>{count(j.left)}</span>,
                },
                {
                  head: say("Lag"),
                  right: true,
                  of: (j) => <span className="text-soft">{j.state === "running" ? seconds(j.lag) : "–"}</span>,
                },
                {
                  head: say("Late"),
                  right: true,
                  of: (j) => <span className={j.late ? "text-sand" : "text-soft"}>{count(j.late)}</span>,
                },
                {
                  head: say("Rejected"),
                  right: true,
                  of: (j) => <span className={j.rejected ? "text-clay" : "text-soft"}>{count(j.rejected)}</span>,
                },
                { head: say("Since"), of: (j) => <span className="text-soft">{ago(j.since)}</span> },
              ]}
            />
          )}
        </Sheet>
      )}
    </div>
  );
}

const seconds = (s: number) =>
  s < 120 ? `${s.toFixed(s < 10 ? 1 : 0)} s` : s < 7200 ? `${Math.round(s / 60)} min` : `${(s / 3600).toFixed(1)} h`;

function Counted({ n, rate }: { n: number; rate: number | undefined }) {
  return (
    <>
      {count(n)}
      <div className="text-xs text-soft">{perSecond(rate)}</div>
    </>
  );
}

/** A line of numbers, without axes: how they went, not how large they are. */
function Line({ of }: { of: number[] }) {
  const wide = 96,
    high = 22;
  if (of.length < 2) return <span className="text-soft">–</span>;
  const most = Math.max(1e-9, ...of);
  const x = (i: number) => (i / (of.length - 1)) * wide;
  const y = (v: number) => high - 1 - (v / most) * (high - 2);
  return (
    <svg
      width={wide}
      height={high}
      role="img"
      aria-label={say("messages a second: up to {{0}}, {{1}} now", {
        0: perSecond(most),
        1: perSecond(of[of.length - 1]),
      })}
    >
      <polyline
        points={of.map((v, i) => `${x(i).toFixed(1)},${y(v).toFixed(1)}`).join(" ")}
        fill="none"
        strokeWidth="1.5"
        strokeLinejoin="round"
        style={{ stroke: "var(--color-river)" }}
      />
    </svg>
  );
}
