// What is declared: streams, tables, sinks, endpoints, views and functions.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { folder } from "./addresses";
import { api, type Connection, type Drift, type Row } from "./api";
import { addToDraft } from "./drafts";
import { ago, Button, count, Empty, Fault, length, Rows, Scroll, Select, Sheet } from "./parts";
import { Connections } from "./found";
import { Looking } from "./look";
import { Results } from "./results";
import { Secrets } from "./secrets";
import { say } from "./i18n";

export function DeclaredPage() {
  const definitions = useQuery({ queryKey: ["definitions"], queryFn: api.definitions });
  const drifts = useQuery({ queryKey: ["drifts"], queryFn: api.drifts, refetchInterval: 10_000 });
  const [tests, setTests] = useState<Connection[]>();
  const [fault, setFault] = useState("");
  const [busy, setBusy] = useState(false);
  const drifted = new Set(drifts.data?.map((d) => d.stream));
  const test = () => {
    setBusy(true);
    setFault("");
    api
      .connections({})
      .then(setTests, (e: Error) => setFault(e.message))
      .finally(() => setBusy(false));
  };
  return (
    <div className="space-y-4">
      <div className="flex items-center gap-3">
        <h1 className="text-xl font-semibold">{say("Streams, tables and sinks")}</h1>
        <span className="ml-auto">
          <Button testid="test-connections" disabled={busy} onClick={test}>
            {busy ? say("Testing …") : say("Test connections")}
          </Button>
        </span>
      </div>
      {(definitions.error || fault) && <Fault>{fault || definitions.error?.message}</Fault>}
      {tests && (
        <Sheet title={say("Connections")} aside={`${tests.filter((t) => t.ok).length} of ${tests.length} can be used`}>
          <Connections list={tests} />
        </Sheet>
      )}
      <Sheet title={say("Declared")}>
        {definitions.data?.length === 0 ? (
          <Empty>
            {say("Nothing is declared yet. Open a ")}
            <Link className="text-river underline" to="/topics">
              {say("topic")}
            </Link>{" "}
            {say("and choose")} <b>{say("Declare a stream")}</b>
            {say(", or ")}
            <Link className="text-river underline" to="/work">
              {say("write")}
            </Link>{" "}
            {say("a DECLARE.")}
          </Empty>
        ) : (
          <Rows
            testid="definitions"
            of={definitions.data ?? []}
            id={(d) => d.name}
            columns={[
              {
                head: say("Name"),
                of: (d) => (
                  <>
                    <Link
                      className="font-medium text-river hover:underline"
                      to={`/declared/${encodeURIComponent(d.name)}`}
                    >
                      {d.name}
                    </Link>
                    {drifted.has(d.name) && (
                      <span className="ml-2 rounded-full bg-sand-pale px-2 py-0.5 text-xs text-sand">
                        {say("messages differ")}
                      </span>
                    )}
                  </>
                ),
              },
              { head: say("Kind"), of: (d) => <span className="text-soft">{d.kind}</span> },
              {
                head: say("Definition"),
                wrap: "w-full max-w-0 min-w-44",
                of: (d) => <div className="truncate font-mono text-xs text-soft">{d.sql.replace(/\s+/g, " ")}</div>,
              },
              { head: say("Changed"), of: (d) => <span className="text-soft">{ago(d.changed)}</span> },
            ]}
          />
        )}
      </Sheet>
      <Secrets />
    </div>
  );
}

export function DefinitionPage() {
  const { name = "" } = useParams();
  const go = useNavigate();
  const d = useQuery({ queryKey: ["definition", name], queryFn: () => api.definition(name), refetchInterval: 10_000 });
  const readable = d.data && ["stream", "table", "view", "sink"].includes(d.data.kind);
  const [many, setMany] = useState(20);
  const rows = useQuery({
    queryKey: ["rows", name, many],
    queryFn: () => api.rows(name, many),
    retry: false,
    enabled: !!readable,
    refetchInterval: false,
  });
  const drift = useQuery({
    queryKey: ["drift", name],
    queryFn: () => api.drift(name),
    enabled: d.data?.kind === "stream" && !!d.data.topic,
    refetchInterval: false,
    retry: false,
  });
  const [tests, setTests] = useState<Connection[]>();
  const [fault, setFault] = useState("");
  const edit = (sql: string) => {
    addToDraft(sql);
    go("/work");
  };
  const x = d.data;
  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-center gap-3">
        <Link to="/declared" className="text-soft hover:text-ink">
          {say("Streams, tables and sinks")}
        </Link>
        <span className="text-line">/</span>
        <h1 className="text-xl font-semibold">{name}</h1>
        {x && <span className="text-soft">{x.kind}</span>}
        <span className="ml-auto flex flex-wrap gap-2">
          {x?.kind === "stream" && x.event_time && (
            <Link
              to={`/streams/${encodeURIComponent(name)}/lateness`}
              className="rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper"
            >
              {say("How late are its rows?")}
            </Link>
          )}
          {x && ["stream", "table", "sink", "endpoint"].includes(x.kind) && (
            <Button
              testid="test-connections"
              onClick={() => {
                setFault("");
                api.connections({ names: [name] }).then(setTests, (e: Error) => setFault(e.message));
              }}
            >
              {say("Test the connection")}
            </Button>
          )}
          {x && (
            <Button
              onClick={() =>
                edit(
                  x.sql
                    .replace(/^DECLARE(?!\s+OR)/i, "DECLARE OR REPLACE")
                    .replace(/^CREATE(?!\s+OR)/i, "CREATE OR REPLACE"),
                )
              }
            >
              {say("Change in the editor")}
            </Button>
          )}
        </span>
      </div>
      {(d.error || fault) && <Fault>{fault || d.error?.message}</Fault>}
      {tests && (
        <Sheet title={say("Connection")}>
          <Connections list={tests} />
        </Sheet>
      )}
      {drift.data && drift.data.fields.length > 0 && <DriftSheet drift={drift.data} onTake={edit} />}
      {x && (
        <div className="grid gap-4 lg:grid-cols-2">
          <Sheet
            title={say("Columns")}
            aside={
              x.event_time ? `event time ${x.event_time}${x.delay ? `, delay ${length(x.delay)}` : ""}` : undefined
            }
          >
            {x.columns.length === 0 ? (
              <Empty>
                {x.kind === "sink"
                  ? say("A sink takes the columns of the step that is routed to it.")
                  : say("It has no columns.")}
              </Empty>
            ) : (
              <Rows
                testid="columns"
                of={x.columns}
                id={(c) => c.name}
                columns={[
                  { head: say("Column"), of: (c) => <span className="font-medium">{c.name}</span> },
                  { head: say("Type"), wrap: "font-mono text-xs", of: (c) => c.type },
                  { head: say("About"), of: (c) => <span className="text-soft">{c.about}</span> },
                ]}
              />
            )}
          </Sheet>
          <Sheet title={say("Definition")} aside={x.users.length ? `used by ${x.users.join(", ")}` : "nothing uses it"}>
            <Scroll as="pre" className="p-4 font-mono text-xs leading-relaxed">
              {x.sql}
            </Scroll>
            {x.topic && (
              <p className="border-t border-line px-4 py-2">
                <Link className="text-river hover:underline" to={`/topics/${encodeURIComponent(x.topic)}`}>
                  {say("Raw messages of {{0}}", { 0: x.topic })}
                </Link>
              </p>
            )}
          </Sheet>
        </div>
      )}
      {readable && (
        <Sheet
          title={x?.kind === "sink" ? "What it holds" : x?.topic ? "Newest rows" : "Rows"}
          aside={
            <span className="flex items-center gap-3">
              {rows.data && rows.data.samples.length > 0 && (
                <span>{say("{{0}} late or rejected among them", { 0: count(rows.data.samples.length) })}</span>
              )}
              <Select aria-label={say("How many rows")} value={many} onChange={(e) => setMany(Number(e.target.value))}>
                {[20, 200, 2000, 10000].map((n) => (
                  <option key={n} value={n}>
                    {say("up to {{0}}", { 0: count(n) })}
                  </option>
                ))}
              </Select>
            </span>
          }
        >
          {rows.error ? (
            <div className="p-3">
              <Fault>{rows.error.message}</Fault>
            </div>
          ) : !rows.data ? (
            <Empty>{say("Reading …")}</Empty>
          ) : (
            <Results
              columns={rows.data.results[0]?.columns ?? []}
              rows={(rows.data.results[0]?.rows ?? []) as Row[]}
              total={rows.data.results[0]?.total ?? 0}
            />
          )}
        </Sheet>
      )}
      {x?.kind === "endpoint" && <Looking via={name} start="" />}
      {x?.kind === "sink" && x.address && !x.topic && <Looking via={x.via} start={folder(x.address)} quiet />}
    </div>
  );
}

function DriftSheet({ drift, onTake }: { drift: Drift; onTake: (sql: string) => void }) {
  return (
    <Sheet title={say("The newest messages differ from the declaration")} aside={`${count(drift.messages)} looked at`}>
      <Rows
        testid="drift"
        of={drift.fields}
        id={(f) => f.what + f.field}
        columns={[
          { head: say("Field"), of: (f) => <b>{f.field}</b> },
          { head: say("What"), of: (f) => <span className="text-sand">{f.what}</span> },
          { head: say("Messages"), right: true, of: (f) => count(f.messages) },
          { head: say("Declared"), mono: true, of: (f) => f.declared },
          { head: say("Found"), mono: true, of: (f) => f.found },
          { head: say("Examples"), mono: true, wide: true, of: (f) => f.examples.join("  ") },
        ]}
      />
      {drift.sql && (
        <div className="border-t border-line p-4">
          <Scroll as="pre" className="font-mono text-xs">
            {drift.sql}
          </Scroll>
          <div className="mt-3">
            <Button onClick={() => onTake(drift.sql!)}>{say("Take it into the editor")}</Button>
          </div>
        </div>
      )}
    </Sheet>
  );
}
