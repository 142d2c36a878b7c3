// Where a result row comes from, and what became of a message.
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Row } from "./api";
import { count, Empty, Fault, Rows, Scroll, Sheet } from "./parts";
import { instant, useZone } from "./zone";
import { say } from "./i18n";

const place = (topic: string, partition: number, offset: number) =>
  `/topics/${encodeURIComponent(topic)}?partition=${partition}&from=${offset}`;

/** The messages that made a row of a sink. */
export function Why({ job, sink, row }: { job: string; sink: string; row: Row }) {
  useZone();
  const q = useQuery({
    queryKey: ["why", job, sink, JSON.stringify(row)],
    queryFn: () => api.why(job, sink, row),
    refetchInterval: false,
  });
  if (q.error) return <Fault>{q.error.message}</Fault>;
  if (!q.data)
    return (
      <p className="text-soft">
        {say("Looking through what the topics hold, and running the job over what is found …")}
      </p>
    );
  const w = q.data;
  return (
    <div className="space-y-4" data-testid="why-answer">
      <Scroll as="pre" className="rounded-lg border border-line bg-paper p-3 font-mono text-xs">
        {JSON.stringify(row, null, 1)}
      </Scroll>
      <p className={w.confirmed ? "text-river" : "text-sand"}>
        {w.confirmed
          ? say("Confirmed: the job, run over these messages alone, gives just this row.")
          : say("Not confirmed: these messages alone do not give just this row.")}
      </p>
      {w.notes.map((n, i) => (
        <p key={i} className="text-xs text-soft">
          {n}
        </p>
      ))}
      {w.gives.length > 0 && (
        <Scroll as="pre" className="rounded border border-line p-3 font-mono text-xs">
          {w.gives.map((g) => JSON.stringify(g)).join("\n")}
        </Scroll>
      )}
      {w.streams.map((s, i) => (
        <Sheet
          key={i}
          title={
            <>
              {s.stream} <span className="font-normal text-soft">{s.table ? say("table") : say("stream")}</span>
            </>
          }
          aside={`${count(s.found)} of ${count(s.looked)} messages`}
        >
          {s.conditions.length > 0 && (
            <p className="px-4 py-2 font-mono text-xs text-soft">{s.conditions.join("  AND  ")}</p>
          )}
          {s.messages.length > 0 && (
            <Rows
              of={s.messages}
              id={(m) => `${m.partition} ${m.offset}`}
              columns={[
                {
                  head: say("Place"),
                  mono: true,
                  of: (m) => (
                    <Link className="text-river hover:underline" to={place(s.topic!, m.partition, m.offset)}>
                      {m.partition}:{m.offset}
                    </Link>
                  ),
                },
                {
                  head: say("Event time"),
                  mono: true,
                  of: (m) => (
                    <>
                      {instant(m.event_time)}
                      {m.late && <span className="text-sand"> {say("late, did not count")}</span>}
                    </>
                  ),
                },
                { head: say("Message"), mono: true, wide: true, of: (m) => m.value },
              ]}
            />
          )}
          {s.found === 0 && s.topic && <Empty>{say("No message of {{0}} has a part in it.", { 0: s.topic })}</Empty>}
        </Sheet>
      ))}
    </div>
  );
}

const tones: Record<string, string> = {
  passed: "text-river",
  counted: "text-river",
  routed: "text-river",
  written: "text-river",
  filtered: "text-soft",
  late: "text-sand",
  rejected: "text-clay",
  waits: "text-sand",
};

/** What each step of a job did with a message. */
export function Became({
  job,
  topic,
  partition,
  offset,
}: {
  job: string;
  topic: string;
  partition: number;
  offset: number;
}) {
  useZone();
  const q = useQuery({
    queryKey: ["became", job, topic, partition, offset],
    queryFn: () => api.became(job, topic, partition, offset),
    refetchInterval: false,
  });
  if (q.error) return <Fault>{q.error.message}</Fault>;
  if (!q.data) return <p className="text-soft">{say("Running the message through the job …")}</p>;
  const b = q.data;
  return (
    <div className="space-y-3" data-testid="became">
      {b.event_time !== undefined && (
        <p className="text-xs text-soft">
          {say("Event time {{0}}; the watermark of its partition just before it was {{1}}.", {
            0: instant(b.event_time),
            1: instant(b.stamp),
          })}
        </p>
      )}
      {b.notes.map((n, i) => (
        <p key={i} className="text-xs text-soft">
          {n}
        </p>
      ))}
      <ol className="space-y-1">
        {b.steps.map((s, i) => (
          <li key={i} className="flex flex-wrap gap-x-3 border-l-2 border-line pl-3 text-sm">
            <span className="w-32 font-medium">{s.step}</span>
            <span className="w-16 text-soft">{s.kind}</span>
            <span className={`w-20 font-medium ${tones[s.verdict] ?? ""}`}>{s.verdict}</span>
            <span className="text-xs text-soft">{s.reason || s.detail}</span>
          </li>
        ))}
      </ol>
      {b.results.map((r, i) => (
        <div key={i} className="rounded-lg border border-line p-3 text-xs">
          <div>
            {r.found.length > 0
              ? say("Stands in {{0}}", { 0: r.sink })
              : r.key
                ? say("Has a part in this row of {{0}}", { 0: r.sink })
                : say("Goes to {{0}}", { 0: r.sink })}
            {r.key ? say(" (by {{0}})", { 0: Object.keys(r.key).join(", ") }) : ""}
          </div>
          <Scroll as="pre" className="mt-1 font-mono">
            {JSON.stringify(r.found.at(-1) ?? r.row)}
          </Scroll>
        </div>
      ))}
    </div>
  );
}
