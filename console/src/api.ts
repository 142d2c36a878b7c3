// The service's network interface: calls typed by its OpenAPI document, and its event streams.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Step = Schemas["Step"];
export type OpenWindow = Schemas["OpenWindow"];
export type Split = Schemas["SplitStatus"];
export type Sample = Schemas["NamedSample"];
export type Job = Schemas["JobInfo"];
export type JobDetail = Schemas["JobDetail"];
export type JobState = Schemas["JobState"];
export type Version = Schemas["Version"];
export type Change = Schemas["Change"];
export type Topic = Schemas["TopicInfo"];
export type Message = Schemas["Message"];
export type Definition = Schemas["Definition"];
export type DefinitionDetail = Schemas["DefinitionDetail"];
export type Activity = Schemas["Activity"];
export type Column = Schemas["Column"];
export type Diagnostic = Schemas["Diagnostic"];
export type Lateness = Schemas["Lateness"];
export type LagBucket = Schemas["LagBucket"];
export type FunctionEntry = Schemas["FunctionEntry"];
export type PlaceEntry = Schemas["PlaceEntry"];
export type Words = Schemas["Words"];
export type Checked = Schemas["Checked"];
export type Explanation = Schemas["Explanation"];
export type TryResult = Schemas["TryResult"];
export type SampleInfo = Schemas["SampleInfo"];
export type Proposal = Schemas["Proposal"];
export type Connection = Schemas["Connection"];
export type Point = Schemas["Point"];
export type SetAside = Schemas["SetAside"];
export type Aside = Schemas["Aside"];
export type Why = Schemas["Why"];
export type Became = Schemas["Became"];
export type Drift = Schemas["Drift"];
export type Outcome = Schemas["Outcome"];
export type ApplyResponse = Schemas["ApplyResponse"];
export type Secret = Schemas["Secret"];
export type Database = Schemas["Database"];
export type Board = Schemas["Board"];
export type BoardPanel = Schemas["Panel"];
export type BoardVariable = Schemas["Variable"];
export type BoardDraft = Schemas["Draft"];
export type BoardParts = Schemas["BoardParts"];
export type PanelParts = Schemas["PanelParts"];
export type PanelKind = Schemas["PanelKind"];
export type Update = Schemas["Update"];
export type Drawing = Schemas["Drawing"];
export type Drawn = Schemas["Drawn"];
export type StepParts = Schemas["StepParts"];
export type BlockParts = Schemas["BlockParts"];
export type RouteParts = Schemas["RouteParts"];
export type JoinParts = Schemas["JoinParts"];
export type WindowParts = Schemas["WindowParts"];
export type Present = Schemas["Present"];
export type Session = Schemas["Session"];
export type Grant = Schemas["Grant"];
export type Person = Schemas["Person"];
export type Alert = Schemas["Alert"];
export type Finding = Schemas["Finding"];
export type Share = Schemas["Share"];
export type Row = Record<string, unknown>;

/** What the service says when it cannot do something. */
export class Problem extends Error {
  status: number;
  diagnostics: Diagnostic[];
  constructor(status: number, detail: string, diagnostics: Diagnostic[] = []) {
    super(detail);
    this.status = status;
    this.diagnostics = diagnostics;
  }
}

/** An error as a Problem; undefined where there is none. */
export function problemOf(e: unknown): Problem | undefined {
  if (e === null || e === undefined) return undefined;
  return e instanceof Problem ? e : new Problem(0, e instanceof Error ? e.message : String(e));
}

const away = "The service does not answer. Is fiume serve still running?";

const client = createClient<paths>({ baseUrl: "", headers: { "Fiume-Actor": "console" } });

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Gives what a call answers, or throws a Problem. */
async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let r: Answer<T>;
  try {
    r = await call;
  } catch {
    throw new Problem(0, away);
  }
  if (r.response.ok) return r.data as T;
  if (r.response.status === 401) window.dispatchEvent(new Event("fiume-unknown")); // the session has ended
  const p = r.error as { detail?: string; diagnostics?: Diagnostic[] } | undefined;
  throw new Problem(r.response.status, p?.detail ?? `the service answered ${r.response.status}`, p?.diagnostics ?? []);
}

/** All elements of a list, page by page. */
async function all<T>(
  page: (after: string | undefined) => Promise<Answer<{ items: T[]; next?: string }>>,
): Promise<T[]> {
  const out: T[] = [];
  for (let after: string | undefined; ;) {
    const p = await ask(page(after));
    out.push(...p.items);
    if (!p.next) return out;
    after = p.next;
  }
}

const name = (n: string) => ({ path: { name: n } });
const actor = { header: {} };

export const api = {
  boards: () => all<Board>((after) => client.GET("/api/boards", { params: { query: { after } } })),
  panelKinds: () => all<PanelKind>((after) => client.GET("/api/panel-kinds", { params: { query: { after } } })),
  boardDraft: (id: string, body: { sql?: string; parts?: BoardParts }) =>
    ask(client.PUT("/api/board-drafts/{id}", { params: { path: { id } }, body })),
  jobs: () => all<Job>((after) => client.GET("/api/jobs", { params: { query: { after } } })),
  job: (n: string) => ask(client.GET("/api/jobs/{name}", { params: name(n) })),
  startJob: (n: string) => ask(client.POST("/api/jobs/{name}/start", { params: { ...name(n), ...actor } })),
  stopJob: (n: string) => ask(client.POST("/api/jobs/{name}/stop", { params: { ...name(n), ...actor } })),
  dropJob: (n: string) => ask(client.DELETE("/api/jobs/{name}", { params: { ...name(n), ...actor } })),
  setParallelism: (n: string, tasks: number) =>
    ask(client.PUT("/api/jobs/{name}/parallelism", { params: { ...name(n), ...actor }, body: { tasks } })),
  jobState: (n: string) => ask(client.GET("/api/jobs/{name}/state", { params: name(n) })),
  present: (n: string, step: string, where: string[], limit: number) =>
    ask(
      client.GET("/api/jobs/{name}/steps/{step}/rows", {
        params: { path: { name: n, step }, query: { where, limit } },
      }),
    ),
  versions: (n: string) =>
    all<Version>((after) => client.GET("/api/jobs/{name}/versions", { params: { ...name(n), query: { after } } })),
  history: (n: string, minutes: number) =>
    ask(client.GET("/api/jobs/{name}/history", { params: { ...name(n), query: { minutes } } })),
  aside: (
    n: string,
    query: {
      kind?: "late" | "rejected" | "";
      step?: string;
      class?: string;
      text?: string;
      before?: string;
      limit?: number;
    },
  ) => ask(client.GET("/api/jobs/{name}/aside", { params: { ...name(n), query } })),
  sendAgain: (n: string, id: number, value: string) =>
    ask(
      client.POST("/api/jobs/{name}/aside/{id}/send", { params: { path: { name: n, id }, ...actor }, body: { value } }),
    ),
  why: (n: string, sink: string, row: unknown) =>
    ask(client.POST("/api/jobs/{name}/why", { params: name(n), body: { sink, row } })),
  became: (n: string, topic: string, partition: number, offset: number) =>
    ask(client.GET("/api/jobs/{name}/became", { params: { ...name(n), query: { topic, partition, offset } } })),
  apply: (sql: string, dryRun: boolean, begin = "") =>
    ask(
      client.POST("/api/apply", {
        params: actor,
        body: { sql: ended(sql), file: "console", dry_run: dryRun, begin: begin || undefined },
      }),
    ),
  /** Applies, and fails also where a part of it was done. */
  applyAll: async (sql: string) => {
    const r = await api.apply(sql, false);
    if (r.problem) throw new Problem(r.problem.status, r.problem.detail, r.problem.diagnostics ?? []);
    return r.outcomes;
  },
  check: (sql: string) => ask(client.POST("/api/check", { body: { sql, file: "text" } })),
  format: (sql: string) => ask(client.POST("/api/format", { body: { sql: ended(sql), file: "text" } })),
  draw: (body: { sql?: string; drawing?: Drawing }) => ask(client.POST("/api/draw", { body })),
  words: () => ask(client.GET("/api/words", {})),
  patterns: (query: { stream?: string; key?: string; number?: string; with?: string }) =>
    ask(client.GET("/api/patterns", { params: { query } })),
  places: () => all<PlaceEntry>((after) => client.GET("/api/places", { params: { query: { after } } })),
  functions: () => all<FunctionEntry>((after) => client.GET("/api/functions", { params: { query: { after } } })),
  tryIt: (body: Schemas["TryRequest"]) => ask(client.POST("/api/try", { body: { ...body, sql: ended(body.sql) } })),
  samples: () => all<SampleInfo>((after) => client.GET("/api/samples", { params: { query: { after } } })),
  sample: (id: number) => ask(client.GET("/api/samples/{id}", { params: { path: { id } } })),
  keepSample: (body: Schemas["SampleRequest"]) => ask(client.POST("/api/samples", { params: actor, body })),
  dropSample: (id: number) => ask(client.DELETE("/api/samples/{id}", { params: { path: { id }, ...actor } })),
  propose: (body: Schemas["SampleRequest"]) => ask(client.POST("/api/propose", { body })),
  drift: (n: string) => ask(client.GET("/api/streams/{name}/drift", { params: name(n) })),
  drifts: () => all<Drift>((after) => client.GET("/api/drifts", { params: { query: { after } } })),
  connections: (body: { sql?: string; names?: string[] }) => ask(client.POST("/api/connections", { body })),
  look: (via: string | undefined, address: string) =>
    ask(client.GET("/api/look", { params: { query: { via, address } } })),
  lateness: (n: string) => ask(client.GET("/api/streams/{name}/lateness", { params: name(n) })),
  topics: () => all<Topic>((after) => client.GET("/api/topics", { params: { query: { after } } })),
  topic: (n: string) => ask(client.GET("/api/topics/{name}", { params: name(n) })),
  createTopic: (n: string, partitions: number) =>
    ask(client.POST("/api/topics", { params: actor, body: { name: n, partitions } })),
  dropTopic: (n: string) => ask(client.DELETE("/api/topics/{name}", { params: { ...name(n), ...actor } })),
  messages: (
    n: string,
    query: {
      partition?: number;
      from?: number;
      since?: string;
      last?: number;
      key?: string;
      text?: string;
      limit?: number;
    },
  ) => ask(client.GET("/api/topics/{name}/messages", { params: { ...name(n), query } })).then((p) => p.items),
  write: (n: string, key: string | undefined, value: string) =>
    ask(client.POST("/api/topics/{name}/messages", { params: name(n), body: [{ key, value }] })),
  definitions: () => all<Definition>((after) => client.GET("/api/definitions", { params: { query: { after } } })),
  definition: (n: string) => ask(client.GET("/api/definitions/{name}", { params: name(n) })),
  rows: (n: string, limit: number) =>
    ask(client.GET("/api/definitions/{name}/rows", { params: { ...name(n), query: { limit } } })),
  secrets: () => all<Secret>((after) => client.GET("/api/secrets", { params: { query: { after } } })),
  setSecret: (n: string, value: string, address: string) =>
    ask(
      client.PUT("/api/secrets/{name}", {
        params: { ...name(n), ...actor },
        body: { value, for: address || undefined },
      }),
    ),
  dropSecret: (n: string) => ask(client.DELETE("/api/secrets/{name}", { params: { ...name(n), ...actor } })),
  advice: (deep: boolean) => all<Finding>((after) => client.GET("/api/advice", { params: { query: { deep, after } } })),
  alerts: () => all<Alert>((after) => client.GET("/api/alerts", { params: { query: { after } } })),
  silenceAlert: (n: string, body: Schemas["SilenceRequest"]) =>
    ask(client.PUT("/api/alerts/{name}/silence", { params: { ...name(n), ...actor }, body })),
  tellAlerts: (sinks: string[]) => ask(client.PUT("/api/alerts-told", { params: { ...actor }, body: { sinks } })),
  alertNotices: () =>
    all<Schemas["Notice"]>((after) => client.GET("/api/alert-notices", { params: { query: { after } } })),
  session: () => ask(client.GET("/api/session")),
  signIn: (n: string, password: string) => ask(client.POST("/api/session", { body: { name: n, password } })),
  signOut: () => ask(client.DELETE("/api/session")),
  accept: (code: string, password: string) => ask(client.POST("/api/session/invitation", { body: { code, password } })),
  changePassword: (old: string, fresh: string) =>
    ask(client.PUT("/api/session/password", { body: { old, new: fresh } })),
  users: () => all<Person>((after) => client.GET("/api/users", { params: { query: { after } } })),
  putUser: (n: string, body: Schemas["UserRequest"]) =>
    ask(client.PUT("/api/users/{name}", { params: { ...name(n), ...actor }, body })),
  dropUser: (n: string) => ask(client.DELETE("/api/users/{name}", { params: { ...name(n), ...actor } })),
  tokens: () => all<Schemas["Token"]>((after) => client.GET("/api/tokens", { params: { query: { after } } })),
  newToken: (body: Schemas["TokenRequest"]) => ask(client.POST("/api/tokens", { params: { ...actor }, body })),
  dropToken: (n: string) => ask(client.DELETE("/api/tokens/{name}", { params: { ...name(n), ...actor } })),
  grants: () => all<Share>((after) => client.GET("/api/grants", { params: { query: { after } } })),
  grant: (body: Share) => ask(client.POST("/api/grants", { params: { ...actor }, body })),
  revoke: (body: Share) => ask(client.POST("/api/grants/revoke", { params: { ...actor }, body })),
  boardLinks: (n: string) =>
    all<Schemas["Link"]>((after) =>
      client.GET("/api/boards/{name}/links", { params: { ...name(n), query: { after } } }),
    ),
  newBoardLink: (n: string, lasts_seconds: number) =>
    ask(client.POST("/api/boards/{name}/links", { params: { ...name(n), ...actor }, body: { lasts_seconds } })),
  dropBoardLink: (n: string, id: string) =>
    ask(client.DELETE("/api/boards/{name}/links/{id}", { params: { path: { name: n, id }, ...actor } })),
  activity: (object?: string, after?: number) =>
    ask(client.GET("/api/activity", { params: { query: { limit: 100, object, after } } })),
};

const ended = (sql: string) => (/;\s*$/.test(sql) ? sql : `${sql};`);

/** Fetches a file and gives it to the browser to keep. */
export async function download(file: string, path: string, body?: unknown): Promise<void> {
  const r = await fetch(path, {
    method: body === undefined ? "GET" : "POST",
    headers: { "Content-Type": "application/json" },
    body: body === undefined ? undefined : JSON.stringify(body),
  }).catch(() => {
    throw new Problem(0, away);
  });
  if (!r.ok) throw await refusal(r);
  const url = URL.createObjectURL(await r.blob());
  const a = document.createElement("a");
  a.href = url;
  a.download = file;
  a.click();
  setTimeout(() => URL.revokeObjectURL(url), 1000);
}

async function refusal(r: Response): Promise<Problem> {
  const p = await r.json().catch(() => ({}));
  return new Problem(r.status, p.detail ?? `the service answered ${r.status}`, p.diagnostics ?? []);
}

/** Follows a stream of events; the answer stops following. */
function follow(
  path: string,
  on: Record<string, (data: never) => void>,
  onProblem: (p: Problem) => void,
  gone: string,
): () => void {
  const source = new EventSource(path);
  for (const [event, take] of Object.entries(on))
    source.addEventListener(event, (e) => take(JSON.parse(e.data) as never));
  source.addEventListener("problem", (e) => {
    const p = JSON.parse(e.data);
    source.close();
    onProblem(new Problem(p.status, p.detail));
  });
  source.onerror = () =>
    onProblem(
      source.readyState === EventSource.CLOSED ? new Problem(404, gone) : new Problem(0, `${away} Trying again …`),
    );
  return () => source.close();
}

/** Follows a job. */
export const followJob = (n: string, onJob: (j: JobDetail) => void, onProblem: (p: Problem) => void) =>
  follow(
    `/api/jobs/${encodeURIComponent(n)}/live`,
    { job: onJob },
    onProblem,
    `There is no job called ${n}, or the service does not answer.`,
  );

/** Follows a board: its panels, and what they show. The query says how it is looked at. */
export const followBoard = (
  n: string,
  query: string,
  on: { board: (b: Board) => void; update: (u: Update) => void },
  onProblem: (p: Problem) => void,
) =>
  follow(
    `/api/boards/${encodeURIComponent(n)}/live?${query}`,
    on,
    onProblem,
    `There is no board called ${n}, or the service does not answer.`,
  );

/** Follows a topic. */
export const followTopic = (
  n: string,
  query: Record<string, string>,
  on: (f: { messages: Message[]; left: number }) => void,
  onProblem: (p: Problem) => void,
) =>
  follow(
    `/api/topics/${encodeURIComponent(n)}/follow?${new URLSearchParams(query)}`,
    { messages: on },
    onProblem,
    `There is no topic called ${n}, or the service does not answer.`,
  );

/** Runs a live query until it ends or the signal aborts it. */
export async function runQuery(
  sql: string,
  signal: AbortSignal,
  on: { columns: (c: Column[]) => void; rows: (r: Row[]) => void; end: (steps: Step[], samples: Sample[]) => void },
  begin = "NOW",
): Promise<void> {
  const r = await fetch("/api/query", {
    method: "POST",
    signal,
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify({ sql, file: "query", begin: begin === "at" ? undefined : begin }),
  }).catch((e) => {
    throw signal.aborted ? e : new Problem(0, away);
  });
  if (!r.ok || !r.body) throw await refusal(r);
  const reader = r.body.pipeThrough(new TextDecoderStream()).getReader();
  let text = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) return;
    text += value;
    for (let cut = text.indexOf("\n\n"); cut >= 0; cut = text.indexOf("\n\n")) {
      const [first = "", second = ""] = text.slice(0, cut).split("\n");
      text = text.slice(cut + 2);
      const data = JSON.parse(second.slice("data: ".length));
      switch (first.slice("event: ".length)) {
        case "columns":
          on.columns(data);
          break;
        case "rows":
          on.rows(data);
          break;
        case "end":
          on.end(data.status.steps ?? [], data.samples ?? []);
          break;
        case "problem":
          throw new Problem(data.status, data.detail, data.diagnostics ?? []);
      }
    }
  }
}
