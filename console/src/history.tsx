// What a job did over the last minutes, hours and days.
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useMemo, useState } from "react";
import { api, type Point } from "./api";
import { Empty, Fault, Select, Sheet } from "./parts";

const Plot = lazy(() => import("./plot"));
const spans = [
  { minutes: 15, label: "the last 15 minutes" },
  { minutes: 60, label: "the last hour" },
  { minutes: 1440, label: "the last day" },
  { minutes: 10080, label: "the last week" },
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
  const of = (...parts: { label: string; tone: string; value: (p: Point) => number }[]) =>
    parts.map((k) => ({ label: k.label, tone: k.tone, values: points.map(k.value) }));
  return (
    <Sheet
      title="Over time"
      aside={
        <Select aria-label="Span" testid="span" value={minutes} onChange={(e) => setMinutes(Number(e.target.value))}>
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
            ? "By the minute: points come once the job has run for some minutes."
            : "The first points come after some seconds."}
        </Empty>
      ) : (
        <div className="grid gap-4 p-4 md:grid-cols-2" data-testid="charts">
          <Suspense fallback={<p className="text-soft">Drawing …</p>}>
            <Plot
              title="Rows a second"
              x={x}
              series={of(
                { label: "in", tone: "river", value: (p) => p.in },
                { label: "out", tone: "sand", value: (p) => p.out },
              )}
            />
            <Plot
              title="Late and rejected a second"
              x={x}
              series={of(
                { label: "late", tone: "sand", value: (p) => p.late },
                { label: "rejected", tone: "clay", value: (p) => p.rejected },
              )}
            />
            <Plot
              title="Watermark behind the newest event, seconds"
              x={x}
              series={of({ label: "lag", tone: "river", value: (p) => p.lag })}
            />
            <Plot
              title="State, bytes"
              x={x}
              series={of(
                { label: "in memory", tone: "river", value: (p) => p.state },
                { label: "on disk", tone: "soft", value: (p) => p.disk },
              )}
            />
            <Plot
              title="Messages that wait to be read"
              x={x}
              series={of({ label: "messages", tone: "clay", value: (p) => p.left })}
            />
            <Plot
              title="Checkpoint, milliseconds"
              x={x}
              series={of({ label: "took", tone: "reed", value: (p) => p.checkpoint })}
            />
          </Suspense>
        </div>
      )}
    </Sheet>
  );
}
