// Topics: what is in them, how fast they grow, and their raw messages.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, followTopic, type Message, type Problem, type Proposal } from "./api";
import { addToDraft } from "./drafts";
import {
  ago,
  Button,
  bytes,
  Confirm,
  count,
  Diagnostics,
  Empty,
  Fault,
  Field,
  Input,
  Panel,
  Rows,
  Scroll,
  Select,
  Sheet,
} from "./parts";
import { perSecond } from "./rate";
import { Became } from "./why";
import { moment, useZone } from "./zone";
import { say } from "./i18n";

export function TopicsPage() {
  const topics = useQuery({ queryKey: ["topics"], queryFn: api.topics });
  const [name, setName] = useState("");
  const [parts, setParts] = useState(4);
  const [fault, setFault] = useState("");
  const cache = useQueryClient();
  return (
    <div className="space-y-4">
      <h1 className="text-xl font-semibold">{say("Topics")}</h1>
      {(topics.error || fault) && <Fault>{fault || topics.error?.message}</Fault>}
      <Sheet title={say("Built-in topics")} aside={`${count(topics.data?.length ?? 0)} topics`}>
        {topics.data?.length === 0 ? (
          <Empty>
            {say("No topics yet. Create one below, or with")}{" "}
            <code className="font-mono">{say("fiume topic create NAME")}</code>.
          </Empty>
        ) : (
          <Rows
            testid="topics"
            of={topics.data ?? []}
            id={(t) => t.name}
            columns={[
              {
                head: say("Topic"),
                of: (t) => (
                  <Link className="font-medium text-river hover:underline" to={`/topics/${encodeURIComponent(t.name)}`}>
                    {t.name}
                  </Link>
                ),
              },
              { head: say("Partitions"), right: true, of: (t) => t.partitions.length },
              { head: say("Messages"), right: true, of: (t) => count(t.messages) },
              { head: say("A second"), right: true, of: (t) => perSecond(t.rate) },
              { head: say("Size"), right: true, of: (t) => bytes(t.bytes) },
              { head: say("Newest"), of: (t) => <span className="text-soft">{t.last_at ? ago(t.last_at) : "–"}</span> },
              {
                head: say("Kept"),
                of: (t) => <span className="text-soft">{t.retain?.toLowerCase() ?? "for ever"}</span>,
              },
              {
                head: say("Read as"),
                of: (t) =>
                  t.read_by.map((n) => (
                    <Link key={n} className="mr-2 text-river hover:underline" to={`/declared/${encodeURIComponent(n)}`}>
                      {n}
                    </Link>
                  )),
              },
              {
                head: say("Written by"),
                of: (t) =>
                  t.written_by.map((n) => (
                    <Link key={n} className="mr-2 text-river hover:underline" to={`/declared/${encodeURIComponent(n)}`}>
                      {n}
                    </Link>
                  )),
              },
            ]}
          />
        )}
        <form
          className="flex flex-wrap items-end gap-3 border-t border-line px-4 py-3"
          onSubmit={(e) => {
            e.preventDefault();
            setFault("");
            api.createTopic(name, parts).then(
              () => {
                setName("");
                void cache.invalidateQueries({ queryKey: ["topics"] });
              },
              (x: Error) => setFault(x.message),
            );
          }}
        >
          <Field label={say("A new topic")}>
            <Input value={name} placeholder={say("name")} onChange={(e) => setName(e.target.value)} />
          </Field>
          <Field label={say("Partitions")}>
            <Input
              type="number"
              min={1}
              max={1000}
              value={parts}
              onChange={(e) => setParts(Number(e.target.value))}
              className="w-24"
            />
          </Field>
          <button
            type="submit"
            disabled={!name}
            className="cursor-pointer rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper disabled:opacity-45"
          >
            {say("Create")}
          </button>
        </form>
      </Sheet>
    </div>
  );
}

type How = "last" | "offset" | "time" | "live";
type As = "text" | "json" | "csv" | "hex";
const shown = 500;

type Choice = { how: How; partition: number; from: number; since: string; key: string; text: string };

const none = { rows: [] as Message[], left: 0, fault: "", begun: true };

/** The messages of a topic that were chosen, read once or followed; asked grows when they are to be read again. */
function useMessages(name: string, c: Choice, asked: number) {
  const follow = c.how === "live";
  const read = useQuery({
    queryKey: ["messages", name, c, asked],
    enabled: !follow,
    refetchInterval: (q) => (q.state.data?.length === 0 ? 2000 : false), // the first ones are waited for
    placeholderData: keepPreviousData,
    queryFn: async () => {
      const where = {
        last: { last: c.partition >= 0 ? 50 : 25 },
        offset: { partition: Math.max(c.partition, 0), from: c.from },
        time: c.since ? { since: new Date(`${c.since}Z`).toISOString() } : {},
        live: {},
      }[c.how];
      const m = await api.messages(name, {
        partition: c.partition,
        key: c.key || undefined,
        text: c.text || undefined,
        limit: 100,
        ...where,
      });
      return c.how === "last" ? [...m].sort((a, b) => (a.at < b.at ? 1 : -1)) : m;
    },
  });
  const of = JSON.stringify([name, c.partition, c.key, c.text, asked]);
  const [followed, setFollowed] = useState({ of: "", ...none });
  useEffect(() => {
    if (!follow) return undefined;
    const [topic, partition, key, text] = JSON.parse(of) as [string, number, string, string];
    const q: Record<string, string> = { partition: String(partition) };
    if (key) q.key = key;
    if (text) q.text = text;
    const add = (change: (l: typeof none) => typeof none) =>
      setFollowed((l) => ({ of, ...change(l.of === of ? l : none) }));
    return followTopic(
      topic,
      q,
      (f) =>
        add((l) => ({
          ...l,
          fault: "",
          left: l.left + f.left,
          rows: [...f.messages.toReversed(), ...l.rows].slice(0, shown),
        })),
      (p) => add((l) => ({ ...l, fault: p.message })),
    );
  }, [follow, of]);
  if (follow) return followed.of === of ? followed : { ...none, begun: false };
  return { ...none, rows: read.data ?? none.rows, fault: read.error?.message ?? "" };
}

export function TopicPage() {
  const { name = "" } = useParams();
  const [search] = useSearchParams();
  useZone();
  const go = useNavigate();
  const topic = useQuery({ queryKey: ["topic", name], queryFn: () => api.topic(name), refetchInterval: 2000 });
  const [how, setHow] = useState<How>(search.has("from") ? "offset" : "last");
  const [as, setAs] = useState<As>("text");
  const [partition, setPartition] = useState(Number(search.get("partition") ?? -1));
  const [from, setFrom] = useState(Number(search.get("from") ?? 0));
  const [since, setSince] = useState("");
  const [key, setKey] = useState("");
  const [text, setText] = useState("");
  const [refused, setRefused] = useState("");
  const [asked, setAsked] = useState(0);
  const [open, setOpen] = useState<Message>();
  const [panel, setPanel] = useState<"" | "declare" | "write" | "drop">("");
  const { rows, left, fault, begun } = useMessages(name, { how, partition, from, since, key, text }, asked);
  const t = topic.data;
  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-center gap-3">
        <Link to="/topics" className="text-soft hover:text-ink">
          {say("Topics")}
        </Link>
        <span className="text-line">/</span>
        <h1 className="text-xl font-semibold">{name}</h1>
        {t && (
          <span className="text-xs text-soft">
            {say("{{0}} messages, {{1}}, {{2}}", { 0: count(t.messages), 1: bytes(t.bytes), 2: perSecond(t.rate) })}
          </span>
        )}
        <span className="ml-auto flex flex-wrap gap-2">
          <Button testid="declare" onClick={() => setPanel("declare")}>
            {say("Declare a stream …")}
          </Button>
          <Button testid="write" onClick={() => setPanel("write")}>
            {say("Write a message …")}
          </Button>
          <Button kind="danger" onClick={() => setPanel("drop")}>
            {say("Drop …")}
          </Button>
        </span>
      </div>
      {topic.error && <Fault>{topic.error.message}</Fault>}
      {t && (
        <Sheet
          title={say("Partitions")}
          aside={
            <>
              {say("read as {{0}}; written by {{1}}", {
                0: t.read_by.length ? t.read_by.join(", ") : "nothing",
                1: t.written_by.length ? t.written_by.join(", ") : "no sink",
              })}
            </>
          }
        >
          <Rows
            of={t.partitions}
            id={(p) => p.partition}
            columns={[
              { head: say("Partition"), of: (p) => p.partition },
              { head: say("First offset"), right: true, of: (p) => count(p.first) },
              { head: say("Next offset"), right: true, of: (p) => count(p.next) },
              { head: say("Size"), right: true, of: (p) => bytes(p.bytes) },
              { head: say("Oldest"), mono: true, of: (p) => moment(p.first_at) },
              { head: say("Newest"), mono: true, of: (p) => moment(p.last_at) },
            ]}
          />
        </Sheet>
      )}
      <Sheet
        title={say("Messages")}
        aside={
          how === "live" && left > 0 ? `${count(left)} came too fast and are left out` : `${count(rows.length)} shown`
        }
      >
        <div className="flex flex-wrap items-end gap-3 border-b border-line px-4 py-2.5">
          <Field label={say("Read")}>
            <Select testid="how" value={how} onChange={(e) => setHow(e.target.value as How)}>
              <option value="last">{say("the newest")}</option>
              <option value="offset">{say("from an offset")}</option>
              <option value="time">{say("from a time")}</option>
              <option value="live">{say("as they come")}</option>
            </Select>
          </Field>
          <Field label={say("Partition")}>
            <Select value={partition} onChange={(e) => setPartition(Number(e.target.value))}>
              <option value={-1}>{say("all")}</option>
              {t?.partitions.map((p) => (
                <option key={p.partition} value={p.partition}>
                  {p.partition}
                </option>
              ))}
            </Select>
          </Field>
          {how === "offset" && (
            <Field label={say("Offset")}>
              <Input
                type="number"
                min={0}
                value={from}
                onChange={(e) => setFrom(Number(e.target.value))}
                className="w-32"
              />
            </Field>
          )}
          {how === "time" && (
            <Field label={say("Arrived at (UTC) or later")}>
              <Input type="datetime-local" step={1} value={since} onChange={(e) => setSince(e.target.value)} />
            </Field>
          )}
          <Field label={say("Key")}>
            <Input
              testid="key"
              value={key}
              placeholder={say("any")}
              onChange={(e) => setKey(e.target.value)}
              className="w-32"
            />
          </Field>
          <Field label={say("With this text")}>
            <Input value={text} placeholder={say("any")} onChange={(e) => setText(e.target.value)} className="w-40" />
          </Field>
          <Field label={say("Show as")}>
            <Select testid="as" value={as} onChange={(e) => setAs(e.target.value as As)}>
              <option value="text">{say("text")}</option>
              <option value="json">{say("JSON, laid out")}</option>
              <option value="csv">{say("CSV fields")}</option>
              <option value="hex">{say("bytes in hex")}</option>
            </Select>
          </Field>
          {how !== "live" && <Button onClick={() => setAsked((n) => n + 1)}>{say("Read again")}</Button>}
        </div>
        {(fault || refused) && (
          <div className="p-3">
            <Fault>{refused || fault}</Fault>
          </div>
        )}
        {rows.length === 0 ? (
          <Empty>
            {how === "live"
              ? begun
                ? say("Waiting for messages …")
                : say("Connecting …")
              : t?.messages === 0
                ? say("The topic is empty. Write a message, or let a job write.")
                : say("No message is like that.")}
          </Empty>
        ) : (
          <Rows
            testid="messages"
            of={rows}
            id={(m) => `${m.partition}:${m.offset}`}
            columns={[
              {
                head: say("Place"),
                mono: true,
                of: (m) => (
                  <button
                    type="button"
                    className="cursor-pointer text-river hover:underline"
                    onClick={() => setOpen(m)}
                  >
                    {m.partition}:{m.offset}
                  </button>
                ),
              },
              { head: say("Arrived"), mono: true, of: (m) => moment(m.at).slice(11) },
              { head: say("Key"), mono: true, of: (m) => m.key ?? "–" },
              { head: say("Value"), wrap: "font-mono text-xs break-all", of: (m) => <Value m={m} as={as} /> },
            ]}
          />
        )}
      </Sheet>
      <Panel
        open={open !== undefined}
        wide
        title={open ? `Message ${open.partition}:${open.offset} of ${name}` : ""}
        onClose={() => setOpen(undefined)}
      >
        {open && <OneMessage topic={name} m={open} />}
      </Panel>
      <Panel
        open={panel === "declare"}
        wide
        title={say("Declare a stream over {{0}}", { 0: name })}
        onClose={() => setPanel("")}
      >
        {panel === "declare" && <Declare topic={name} />}
      </Panel>
      <Panel open={panel === "write"} title={say("Write a message to {{0}}", { 0: name })} onClose={() => setPanel("")}>
        {panel === "write" && (
          <Write
            topic={name}
            like={rows[0]}
            onDone={() => {
              setPanel("");
              setAsked((n) => n + 1);
            }}
          />
        )}
      </Panel>
      <Confirm
        open={panel === "drop"}
        title={say("Delete the topic {{0}}?", { 0: name })}
        onClose={() => setPanel("")}
        action={{
          label: say("Delete it"),
          run: () =>
            void api.dropTopic(name).then(
              () => go("/topics"),
              (e: Error) => setRefused(e.message),
            ),
        }}
      >
        {say("Its {{0}} messages are deleted for good.", { 0: count(t?.messages ?? 0) })}
      </Confirm>
    </div>
  );
}

function Value({ m, as }: { m: Message; as: As }) {
  if (m.value === "" && !m.bytes)
    return <span className="text-soft italic">{say("empty: a deletion, where it is a table")}</span>;
  if (as === "hex") return <pre>{hex(m)}</pre>;
  if (as === "json") {
    const laid = laidOut(m.value);
    if (laid !== undefined) return <pre className="whitespace-pre-wrap">{laid}</pre>;
    return (
      <span className="text-clay" title={say("no JSON")}>
        {m.value}
      </span>
    );
  }
  if (as === "csv")
    return (
      <span className="flex flex-wrap gap-1">
        {fields(m.value).map((f, i) => (
          <span key={i} className="rounded border border-line px-1">
            {f}
          </span>
        ))}
      </span>
    );
  return m.value;
}

/** A JSON text with a line for each field; undefined where it is none. */
function laidOut(text: string): string | undefined {
  try {
    return JSON.stringify(JSON.parse(text), null, 1);
  } catch {
    return undefined;
  }
}

/** The fields of a CSV record. */
export function fields(text: string): string[] {
  const out: string[] = [];
  for (const m of text.matchAll(/("(?:[^"]|"")*"|[^,]*)(?:,|$)/g)) {
    if (m.index === text.length && out.length > 0 && !text.endsWith(",")) break;
    out.push((m[1] ?? "").replace(/^"|"$/g, "").replaceAll('""', '"'));
  }
  return out;
}

function hex(m: Message): string {
  const b = m.bytes ? Uint8Array.from(atob(m.bytes), (c) => c.charCodeAt(0)) : new TextEncoder().encode(m.value);
  const lines: string[] = [];
  for (let i = 0; i < Math.min(b.length, 1024); i += 16) {
    const part = [...b.subarray(i, i + 16)];
    lines.push(
      `${i.toString(16).padStart(6, "0")}  ${part
        .map((x) => x.toString(16).padStart(2, "0"))
        .join(" ")
        .padEnd(48)} ${part.map((x) => (x >= 32 && x < 127 ? String.fromCharCode(x) : "·")).join("")}`,
    );
  }
  return lines.join("\n") + (b.length > 1024 ? "\n…" : "");
}

/** A message, and what became of it in the jobs that read the topic. */
function OneMessage({ topic, m }: { topic: string; m: Message }) {
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: api.jobs });
  const [job, setJob] = useState("");
  return (
    <>
      <dl className="grid grid-cols-[6rem_1fr] gap-x-4 gap-y-1">
        <dt className="text-soft">{say("Arrived")}</dt>
        <dd>{moment(m.at)}</dd>
        <dt className="text-soft">{say("Key")}</dt>
        <dd className="font-mono">{m.key ?? "none"}</dd>
        {m.headers && (
          <>
            <dt className="text-soft">{say("Headers")}</dt>
            <dd className="font-mono" data-testid="headers">
              {Object.entries(m.headers).map(([name, value]) => (
                <div key={name}>
                  {name}: {value}
                </div>
              ))}
            </dd>
          </>
        )}
      </dl>
      <Scroll as="pre" className="rounded-lg border border-line bg-paper p-3 font-mono text-xs whitespace-pre-wrap">
        <Value m={m} as="json" />
      </Scroll>
      <Field label={say("What became of it in the job")}>
        <Select testid="became-job" value={job} onChange={(e) => setJob(e.target.value)}>
          <option value="">{say("choose a job")}</option>
          {jobs.data?.map((j) => (
            <option key={j.name}>{j.name}</option>
          ))}
        </Select>
      </Field>
      {job && <Became job={job} topic={topic} partition={m.partition} offset={m.offset} />}
    </>
  );
}

function Write({ topic, like, onDone }: { topic: string; like?: Message; onDone: () => void }) {
  const [key, setKey] = useState(like?.key ?? "");
  const [value, setValue] = useState(like?.value ?? "");
  const [fault, setFault] = useState("");
  return (
    <>
      {fault && <Fault>{fault}</Fault>}
      <Field label={say("Key; leave it empty for none")}>
        <Input value={key} onChange={(e) => setKey(e.target.value)} />
      </Field>
      <label className="block text-xs text-soft">
        {say("Value")}
        <textarea
          data-testid="value"
          rows={6}
          value={value}
          spellCheck={false}
          onChange={(e) => setValue(e.target.value)}
          className="mt-1 w-full rounded-md border border-line bg-paper p-3 font-mono text-xs text-ink"
        />
      </label>
      <Button
        testid="send"
        kind="main"
        onClick={() => {
          setFault("");
          api.write(topic, key || undefined, value).then(onDone, (e: Error) => setFault(e.message));
        }}
      >
        {say("Write it")}
      </Button>
    </>
  );
}

/** A declaration that fits what is in a topic. */
function Declare({ topic }: { topic: string }) {
  const go = useNavigate();
  const [p, setP] = useState<Proposal>();
  const [problem, setProblem] = useState<Problem>();
  useEffect(() => {
    let on = true;
    api.propose({ topic, limit: 1000 }).then(
      (x) => on && setP(x),
      (e) => on && setProblem(e),
    );
    return () => {
      on = false;
    };
  }, [topic]);
  if (problem)
    return problem.diagnostics.length > 0 ? (
      <Diagnostics list={problem.diagnostics} />
    ) : (
      <Fault>{problem.message}</Fault>
    );
  if (!p) return <p className="text-soft">{say("Looking at the newest messages …")}</p>;
  return (
    <>
      <p className="text-xs text-soft">
        {say("{{0}} messages looked at{{1}}.", {
          0: count(p.messages),
          1: p.unreadable > 0 ? `, ${count(p.unreadable)} of them no rows` : "",
        })}
      </p>
      <Scroll as="pre" data-testid="proposal" className="rounded-lg border border-line bg-paper p-3 font-mono text-xs">
        {p.sql}
      </Scroll>
      <Scroll className="rounded-lg border border-line">
        <Rows
          of={p.columns}
          id={(c) => c.name}
          columns={[
            { head: say("Column"), of: (c) => <span className="font-medium">{c.name}</span> },
            {
              head: say("Type"),
              wrap: "font-mono text-xs",
              of: (c) => (
                <>
                  {c.type}
                  {c.not_null ? say(" NOT NULL") : ""}
                </>
              ),
            },
            { head: say("Missing in"), right: true, of: (c) => count(c.missing) },
            { head: say("Examples"), wrap: "min-w-40 font-mono text-xs break-all", of: (c) => c.examples.join("  ") },
            { of: (c) => <span className="text-xs text-soft">{c.note}</span> },
          ]}
        />
      </Scroll>
      {p.event_times.map((t, i) => (
        <p key={t.column} className="text-xs">
          {i === 0 ? say("Event time") : say("Or")} <b>{t.column}</b>
          {say(": {{0}}; the latest lies {{1}} s behind. A delay of {{2}} s keeps 999 of 1000 rows.", {
            0: t.why,
            1: (t.most / 1e6).toFixed(1),
            2: t.delay / 1e6,
          })}
        </p>
      ))}
      {p.notes.map((n, i) => (
        <p key={i} className="text-xs text-soft">
          {n}
        </p>
      ))}
      <Button
        testid="take"
        kind="main"
        onClick={() => {
          addToDraft(p.sql);
          go("/work");
        }}
      >
        {say("Take it into the editor")}
      </Button>
    </>
  );
}
