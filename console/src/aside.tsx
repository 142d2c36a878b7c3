// Rows that were late or rejected: why, where from, how many; and the mending of one.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, download, type SetAside } from "./api";
import { Button, Empty, Fault, Field, Input, length, Panel, Rows, Select, Sheet } from "./parts";
import { Reasons } from "./found";
import { Became } from "./why";
import { instant, moment, useZone } from "./zone";
import { say } from "./i18n";

/** The late desk and the rejected desk of a job. */
export function Desk({ job, kind }: { job: string; kind: "late" | "rejected" }) {
  useZone();
  const [step, setStep] = useState("");
  const [reason, setReason] = useState("");
  const [text, setText] = useState("");
  const [before, setBefore] = useState<string[]>([]);
  const [open, setOpen] = useState<SetAside>();
  const [fault, setFault] = useState("");
  const cache = useQueryClient();
  const query = { kind, step: step || undefined, class: reason || undefined, text: text || undefined };
  const aside = useQuery({
    queryKey: ["aside", job, kind, step, reason, text, before.at(-1)],
    queryFn: () => api.aside(job, { ...query, before: before.at(-1), limit: 50 }),
    placeholderData: keepPreviousData,
  });
  const rows = aside.data?.items ?? [];
  const save = (format: string) => {
    setFault("");
    const q = new URLSearchParams({ format, kind });
    for (const [k, v] of Object.entries(query)) if (v) q.set(k, v);
    download(
      `${job}-${kind}.${format === "json" ? "ndjson" : format}`,
      `/api/jobs/${encodeURIComponent(job)}/aside/file?${q}`,
    ).catch((e: Error) => setFault(e.message));
  };
  return (
    <div className="space-y-4" data-testid={`desk-${kind}`}>
      {(fault || aside.error) && <Fault>{fault || aside.error?.message}</Fault>}
      <Reasons
        reasons={aside.data?.reasons ?? []}
        onChoose={(t) => {
          setStep(t.step);
          setReason(t.kind === "late" ? "" : t.class);
          setBefore([]);
        }}
      />
      <Sheet
        title={kind === "late" ? "Late rows" : "Rejected rows"}
        aside="the newest first; of rows that come fast, a sample"
      >
        <div className="flex flex-wrap items-end gap-3 border-b border-line px-4 py-2.5">
          <Field label={say("With this text")}>
            <Input
              testid="aside-text"
              value={text}
              placeholder={say("in row, reason or origin")}
              onChange={(e) => {
                setText(e.target.value);
                setBefore([]);
              }}
            />
          </Field>
          <Field label={say("Step")}>
            <Select
              value={step}
              onChange={(e) => {
                setStep(e.target.value);
                setReason("");
                setBefore([]);
              }}
            >
              <option value="">{say("all")}</option>
              {[...new Set(aside.data?.reasons.map((r) => r.step))].map((s) => (
                <option key={s}>{s}</option>
              ))}
            </Select>
          </Field>
          {reason && (
            <Button
              small
              onClick={() => {
                setReason("");
                setBefore([]);
              }}
            >
              {say("Reason: {{0}} ✕", { 0: reason.slice(0, 40) })}
            </Button>
          )}
          <span className="ml-auto flex items-center gap-1.5 text-xs text-soft">
            {say("Save as")}
            {["csv", "json", "parquet"].map((f) => (
              <Button key={f} small testid={`aside-${f}`} onClick={() => save(f)}>
                {f.toUpperCase()}
              </Button>
            ))}
          </span>
        </div>
        {rows.length === 0 ? (
          <Empty>
            {text || step || reason
              ? say("No row is like that.")
              : kind === "late"
                ? say("No row was late.")
                : say("No row was rejected.")}
          </Empty>
        ) : (
          <Rows
            testid="samples"
            of={rows}
            id={(s) => s.id}
            columns={[
              { head: say("When"), mono: true, of: (s) => moment(s.at).slice(11, 19) },
              { head: say("Step"), of: (s) => s.step },
              {
                head: say("Reason"),
                wrap: "min-w-52 text-xs leading-5",
                of: (s) => (
                  <>
                    <button
                      type="button"
                      data-testid="open-row"
                      className="cursor-pointer text-left text-river hover:underline"
                      onClick={() => setOpen(s)}
                    >
                      {s.reason}
                    </button>
                    {s.late_by ? (
                      <span className="text-sand"> {say("late by {{0}}", { 0: length(s.late_by) })}</span>
                    ) : null}
                    {s.sent_at && (
                      <span className="text-reed">
                        {" "}
                        {say("sent again by")} {s.sent_by}
                      </span>
                    )}
                  </>
                ),
              },
              { head: say("Origin"), mono: true, of: (s) => s.origin || "–" },
              {
                head: say("Row"),
                wrap: "font-mono text-xs break-all",
                of: (s) => (
                  <>
                    {s.row.slice(0, 220)}
                    {s.row.length > 220 ? "…" : ""}
                  </>
                ),
              },
            ]}
          />
        )}
        {(before.length > 0 || aside.data?.next) && (
          <div className="flex gap-2 border-t border-line px-4 py-2">
            <Button small disabled={before.length === 0} onClick={() => setBefore((b) => b.slice(0, -1))}>
              {say("Newer")}
            </Button>
            <Button small disabled={!aside.data?.next} onClick={() => setBefore((b) => [...b, aside.data!.next!])}>
              {say("Older")}
            </Button>
          </div>
        )}
      </Sheet>
      <Panel
        open={open !== undefined}
        wide
        title={open ? `A row that was ${open.kind} in ${open.step}` : ""}
        onClose={() => setOpen(undefined)}
      >
        {open && (
          <OneRow
            row={open}
            onSent={() => {
              setOpen(undefined);
              void cache.invalidateQueries({ queryKey: ["aside", job] });
            }}
          />
        )}
      </Panel>
    </div>
  );
}

function OneRow({ row, onSent }: { row: SetAside; onSent: () => void }) {
  const [value, setValue] = useState<string>();
  const [fault, setFault] = useState("");
  const message = useQuery({
    queryKey: ["message", row.topic, row.partition, row.offset],
    enabled: !!row.topic,
    refetchInterval: false,
    queryFn: () => api.messages(row.topic!, { partition: row.partition, from: row.offset, limit: 1 }),
  });
  const original = message.data?.[0]?.value ?? row.row;
  const text = value ?? original;
  let wrong = "";
  try {
    JSON.parse(text);
  } catch (e) {
    wrong = e instanceof Error ? e.message : String(e);
  }
  return (
    <>
      {fault && <Fault>{fault}</Fault>}
      <dl className="grid grid-cols-[8rem_1fr] gap-x-4 gap-y-1 text-sm">
        <dt className="text-soft">{say("Reason")}</dt>
        <dd>
          {row.reason}
          {row.late_by ? say("; it came {{0}} too late", { 0: length(row.late_by) }) : ""}
        </dd>
        <dt className="text-soft">{say("Origin")}</dt>
        <dd>
          {row.topic ? (
            <Link
              className="text-river hover:underline"
              to={`/topics/${encodeURIComponent(row.topic)}?partition=${row.partition}&from=${row.offset}`}
            >
              {row.origin}
            </Link>
          ) : (
            row.origin || "made by the step"
          )}
        </dd>
        {row.event_time !== undefined && (
          <>
            <dt className="text-soft">{say("Event time")}</dt>
            <dd>{instant(row.event_time)}</dd>
          </>
        )}
        <dt className="text-soft">{say("Set aside")}</dt>
        <dd>{moment(row.at)}</dd>
        {row.sent_at && (
          <>
            <dt className="text-soft">{say("Sent again")}</dt>
            <dd>
              {say("{{0}} by", { 0: moment(row.sent_at) })} {row.sent_by}
            </dd>
          </>
        )}
      </dl>
      <label className="block text-xs text-soft">
        {say("The message")}
        <textarea
          data-testid="mend"
          value={text}
          rows={6}
          spellCheck={false}
          onChange={(e) => setValue(e.target.value)}
          className="mt-1 w-full rounded-md border border-line bg-paper p-3 font-mono text-xs text-ink"
        />
      </label>
      <div className="flex items-center gap-3">
        <Button
          testid="send-again"
          kind="main"
          disabled={!row.topic || text === ""}
          onClick={() => {
            setFault("");
            api.sendAgain(row.job, row.id, text).then(onSent, (e: Error) => setFault(e.message));
          }}
        >
          {say("Send it to {{0}} again", { 0: row.topic || "its topic" })}
        </Button>
        <span className="text-xs text-soft">
          {!row.topic
            ? say("The row was not read from a topic.")
            : wrong
              ? say("No JSON yet: {{0}}", { 0: wrong })
              : value !== undefined && value !== original
                ? say("Mended.")
                : say("It goes to the same partition, as a new message.")}
        </span>
      </div>
      {row.topic && (
        <details className="rounded-lg border border-line">
          <summary className="cursor-pointer px-4 py-2 text-sm font-medium">
            {say("What became of it, step by step")}
          </summary>
          <div className="p-4 pt-0">
            <Became job={row.job} topic={row.topic} partition={row.partition} offset={row.offset} />
          </div>
        </details>
      )}
    </>
  );
}
