// What a job did over the last minutes, hours and days.
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useMemo, useState } from "react";
import { api, type Point } from "./api";
import { Empty, Fault, Select, Sheet } from "./parts";
import { say } from "./i18n";

const Plot = lazy(() => import("./plot"));
const spans = [
  { minutes: 15, label: say("the last 15 minutes") },
  { minutes: 60, label: say("the last hour") },
  { minutes: 1440, label: say("the last day") },
  { minutes: 10080, label: say("the last week") },
];

type Line = [label: string, tone: string, value: (p: Point) => number];

/** What is drawn of a job, chart by chart. */
const charts: { title: string; lines: Line[] }[] = [
  {
    title: say("Rows a second"),
    lines: [
      ["in", "river", (p) => p.in],
      ["out", "sand", (p) => p.out],
    ],
  },
  {
    title: say("Late and rejected a second"),
    lines: [
      ["late", "sand", (p) => p.late],
      ["rejected", "clay", (p) => p.rejected],
    ],
  },
  { title: say("Watermark behind the newest event, seconds"), lines: [["lag", "river", (p) => p.lag]] },
  {
    title: say("State, bytes"),
    lines: [
      ["in memory", "river", (p) => p.state],
      ["on disk", "soft", (p) => p.disk],
    ],
  },
  { title: say("Messages that wait to be read"), lines: [["messages", "clay", (p) => p.left]] },
  { title: say("Checkpoint, milliseconds"), lines: [["took", "reed", (p) => p.checkpoint]] },
];

export function Charts({ job }: { job: string }) {
  const [minutes, setMinutes] = useState(15);
  const q = useQuery({
    queryKey: ["history", job, minutes],
    queryFn: () => api.history(job, minutes),
    refetchInterval: minutes <= 60 ? 5000 : 60_000,
  });
  const points = useMemo(() => q.data?.points ?? [], [q.data]);
  const x = useMemo(() => points.map((p) => Date.parse(p.at) / 1000), [points]);
  return (
    <Sheet
      title={say("Over time")}
      aside={
        <Select
          aria-label={say("Span")}
          testid="span"
          value={minutes}
          onChange={(e) => setMinutes(Number(e.target.value))}
        >
          {spans.map((s) => (
            <option key={s.minutes} value={s.minutes}>
              {s.label}
            </option>
          ))}
        </Select>
      }
    >
      {q.error && (
        <div className="p-3">
          <Fault>{q.error.message}</Fault>
        </div>
      )}
      {points.length < 2 ? (
        <Empty>
          {minutes > 60
            ? say("By the minute: points come once the job has run for some minutes.")
            : say("The first points come after some seconds.")}
        </Empty>
      ) : (
        <div className="grid gap-4 p-4 md:grid-cols-2" data-testid="charts">
          <Suspense fallback={<p className="text-soft">{say("Drawing …")}</p>}>
            {charts.map((c) => (
              <Plot
                key={c.title}
                title={c.title}
                x={x}
                series={c.lines.map(([label, tone, value]) => ({ label, tone, values: points.map(value) }))}
              />
            ))}
          </Suspense>
        </div>
      )}
    </Sheet>
  );
}
