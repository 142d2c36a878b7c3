// The forms of the two ends of a drawing: what is read, and the sinks that rows go to.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, problemOf, type Column, type Drawn } from "./api";
import { free } from "./drawing";
import { Part, ConditionRow } from "./fields";
import { Connections } from "./found";
import { say } from "./i18n";
import { Button, Empty, Fault, Field, Input, Panel, Rows, Scroll, Select } from "./parts";
import { Preview } from "./preview";
import { sqlName, sqlPath, sqlText } from "./sql";

/** What is known of something that is read. */
export function SourceForm({ name, columns, before }: { name: string; columns: Column[]; before: string }) {
  return (
    <div className="space-y-4">
      <h2 className="text-sm font-semibold">{name}</h2>
      <p className="text-xs text-soft">
        {say("“Then …” puts a step behind it, and “Send to …” behind a step where its rows go.")}
      </p>
      <Part title={say("Columns")}>
        <div className="rounded-md border border-line">
          {columns.length === 0 ? (
            <Empty>{say("Its columns are not known.")}</Empty>
          ) : (
            <Rows
              of={columns}
              id={(c) => c.name}
              columns={[
                { head: say("Name"), wrap: "text-xs", of: (c) => c.name },
                { head: say("Type"), mono: true, wide: true, of: (c) => c.type },
              ]}
            />
          )}
        </div>
      </Part>
      <Preview
        query={`SELECT * FROM ${sqlName(name)} LIMIT 30`}
        before={before}
        step={name}
        reads={[]}
        wrong={columns.length === 0}
      />
    </div>
  );
}

/** A sink: what would be written, and whether it could. */
export function SinkForm({
  name,
  sql,
  drawn,
  columnsOf,
}: {
  name: string;
  sql: string;
  drawn: Drawn;
  columnsOf: (step: string) => Column[];
}) {
  const d = drawn.drawing;
  const from = d.routes.filter((r) => r.branches.some((b) => b.sinks.includes(name)));
  const own = new RegExp(
    `DECLARE\\s+(OR\\s+REPLACE\\s+)?SINK\\s+${sqlName(name).replace(/[.*+?^${}()|[\]\\]/g, "\\$&")}\\s`,
    "i",
  ).test(sql);
  const test = useQuery({
    queryKey: ["connection", name, own ? drawn.sql : ""],
    queryFn: () => api.connections(own ? { sql: drawn.sql } : { names: [name] }),
    refetchInterval: false,
    enabled: false,
  });
  const found = (test.data ?? []).filter((c) => c.name === name);
  return (
    <div className="space-y-4">
      <h2 className="text-sm font-semibold">{name}</h2>
      <p className="text-xs text-soft">{own ? say("It is declared by this text.") : say("It is declared already.")}</p>
      {from.map((r, i) => (
        <Part key={i} title={r.kind ? `The ${r.kind} rows of ${r.step}` : `What would be written: rows of ${r.step}`}>
          {!r.kind && (
            <div className="rounded-md border border-line">
              <Rows
                testid="sink-columns"
                of={columnsOf(r.step).filter((c) => !c.name.includes("."))}
                id={(c) => c.name}
                columns={[
                  { head: say("Column"), wrap: "text-xs", of: (c) => c.name },
                  { head: say("Type"), mono: true, wide: true, of: (c) => c.type },
                ]}
              />
            </div>
          )}
        </Part>
      ))}
      <Button small testid="test-sink" disabled={test.isFetching} onClick={() => void test.refetch()}>
        {test.isFetching ? say("Testing …") : say("Test the connection")}
      </Button>
      {test.error && <Fault>{problemOf(test.error)!.message}</Fault>}
      {test.data && (
        <Scroll className="rounded-md border border-line">
          {found.length > 0 ? <Connections list={found} /> : <Empty>{say("Nothing was found of it.")}</Empty>}
        </Scroll>
      )}
    </div>
  );
}

/** Where the rows of a step go: a sink that is there, or a topic of its own; all rows, or those of a condition. */
export function NewSink({
  step,
  drawn,
  columns,
  onClose,
  onPut,
}: {
  step: string;
  drawn: Drawn;
  columns: Column[];
  onClose: () => void;
  onPut: (sink: string, where: string, declared: string, job: string) => Promise<string>;
}) {
  const d = drawn.drawing;
  const [to, setTo] = useState(drawn.sinks?.length ? drawn.sinks[0]! : "");
  const [own, setOwn] = useState(!drawn.sinks?.length);
  const [name, setName] = useState(() => free(d, `${step}_out`, drawn.sinks ?? []));
  const [some, setSome] = useState(false);
  const first = columns[0];
  const [where, setWhere] = useState(first ? `${sqlPath(first.name)} IS NOT NULL` : "TRUE");
  const [job, setJob] = useState(() => free(d, "my_job"));
  const [fault, setFault] = useState("");
  const send = async () => {
    const sink = own ? name.trim() : to;
    const declared = own
      ? `CREATE TOPIC IF NOT EXISTS ${sqlName(sink) === sink ? sink : sqlText(sink)} (PARTITIONS 1);\nDECLARE SINK ${sqlName(sink)} TO TOPIC ${sqlText(sink)} (FORMAT json);\n\n`
      : "";
    setFault(await onPut(sink, some ? where : "", declared, job.trim() || "my_job"));
  };
  return (
    <Panel open title={say("Send rows of {{0}}", { 0: step })} onClose={onClose}>
      {fault && <Fault>{fault}</Fault>}
      <div className="flex flex-wrap gap-4" role="radiogroup" aria-label={say("Where to")}>
        <label className="flex items-center gap-2">
          <input type="radio" data-testid="to-own" checked={own} onChange={() => setOwn(true)} />{" "}
          {say("a topic of its own")}
        </label>
        <label className={`flex items-center gap-2 ${drawn.sinks?.length ? "" : "text-soft"}`}>
          <input
            type="radio"
            data-testid="to-there"
            disabled={!drawn.sinks?.length}
            checked={!own}
            onChange={() => setOwn(false)}
          />{" "}
          {say("a sink that is there")}
        </label>
      </div>
      {own ? (
        <Field label={say("Name of the topic and its sink")}>
          <Input testid="sink-name" value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
      ) : (
        <Field label={say("Sink")}>
          <Select testid="sink" value={to} onChange={(e) => setTo(e.target.value)}>
            {(drawn.sinks ?? []).map((s) => (
              <option key={s}>{s}</option>
            ))}
          </Select>
        </Field>
      )}
      <label className="flex items-center gap-2">
        <input type="checkbox" data-testid="some-rows" checked={some} onChange={(e) => setSome(e.target.checked)} />{" "}
        {say("only rows of which something holds")}
      </label>
      {some && <ConditionRow label={say("The condition")} expr={where} columns={columns} onTell={setWhere} />}
      {!d.job && (
        <Field label={say("Name of the job")}>
          <Input testid="new-job-name" value={job} onChange={(e) => setJob(e.target.value)} />
        </Field>
      )}
      <p className="text-xs text-soft">
        {say("Columns that would be written: {{0}}. For another place, declare a sink first with “Declare …”.", {
          0: columns
            .filter((c) => !c.name.includes("."))
            .map((c) => `${c.name} ${c.type}`)
            .join(", "),
        })}
      </p>
      <Button kind="main" testid="send" disabled={own ? !name.trim() : !to} onClick={() => void send()}>
        {say("Send them there")}
      </Button>
    </Panel>
  );
}
