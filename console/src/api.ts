// The service's network interface, as the console uses it.

export type Counts = {
  in: number; passed: number; filtered: number; absorbed: number;
  late: number; rejected: number; held: number; made: number;
  withdrawn?: number; partly?: number; covered?: number; counted?: number; missed?: number;
  matched?: number; unmatched?: number;
};
export type OpenWindow = { opens: number; closes: number; key?: string; rows: number; closed?: boolean };
export type Step = {
  id: number; kind: string; step: string; detail: string; counts: Counts; out: number; open: number;
  watermark?: number; windows?: number; keys?: number; bytes?: number; lateness?: number; open_windows?: OpenWindow[];
  rows?: number; table?: boolean; bound?: string; alias?: string; into?: number;
};
export type LagBucket = { up_to: number; rows: number };
export type Lateness = {
  stream: string; event_time: string; delay: number; kept: number; rows: number; rejected: number; most: number; buckets: LagBucket[];
  proposals: { share: number; delay: number; waits: number }[];
  splits: { split: string; rows: number; kept: number; half: number; most_99: number; most: number; buckets: LagBucket[] }[];
};
export type Split = {
  stream: string; split: string; next: number; newest_at?: number; watermark?: number; idle?: boolean; ended?: boolean; table?: boolean; notice?: string;
};
export type Sample = {
  step: string; kind: "late" | "rejected"; reason: string; origin?: string; event_time?: number; late_by?: number; row: string;
};
export type Job = {
  name: string; state: string; since: string; reason?: string; version: number;
  rows_in: number; rows_out: number; late: number; rejected: number;
};
export type JobDetail = Job & {
  sql: string; explain: string; status: { steps: Step[]; splits: Split[] }; samples: Sample[];
  newest: Record<string, string[]>;
  checkpoint?: { number: number; at: string; bytes: number; took_ms: number };
  abandoned?: { since: string; reason: string; tries: number };
};
export type Checkpoint = { number: number; at: string; bytes: number; took_ms: number; version: number };
export type JobState = {
  steps: { id: number; step: string; kind: string; detail: string; keys: number; rows: number; bytes: number; disk: number; parked: number; growth?: number }[];
  memory: number;
  sinks: { sink: string; place: string; promise: string; spooled: number; missing: number; waiting?: { since: string; reason: string; tries: number } }[];
  checkpoints: Checkpoint[];
};
export type Version = { job: string; version: number; sql: string; actor: string; created_at: string };
export type Change = { kind: string; step: string; what: string; detail?: string };
export type Applied = { outcomes: { kind: string; name?: string; done: string; changes?: Change[] }[]; problem?: { status: number; detail: string; diagnostics?: Diagnostic[] } };
export type Topic = {
  name: string; messages: number; bytes: number; retain?: string;
  partitions: { partition: number; first: number; next: number; bytes: number }[];
};
export type Message = { partition: number; offset: number; at: string; key: string | null; value: string };
export type Definition = { kind: string; name: string; sql: string; changed: string };
export type Activity = { id: number; at: string; actor: string; action: string; object: string; detail?: string };
export type Column = { name: string; type: string };
export type Row = Record<string, unknown>;
export type Diagnostic = { code: string; message: string; hint?: string; line: number; column: number };

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

async function problemOf(r: Response): Promise<Problem> {
  try {
    const p = await r.json();
    return new Problem(r.status, p.detail ?? r.statusText, p.diagnostics ?? []);
  } catch {
    return new Problem(r.status, `the service answered ${r.status} ${r.statusText}`);
  }
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let r: Response;
  try {
    r = await fetch(path, {
      method,
      headers: { "Content-Type": "application/json", "Fiume-Actor": "console" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Problem(0, "The service does not answer. Is fiume serve still running?");
  }
  if (!r.ok) throw await problemOf(r);
  return (r.status === 204 ? undefined : await r.json()) as T;
}

const at = encodeURIComponent;
export type FunctionEntry = { name: string; kind: string; signatures: string[]; gives: string; example?: string; result?: string };

export const api = {
  jobs: () => call<Job[]>("GET", "/api/jobs"),
  startJob: (n: string) => call<JobDetail>("POST", `/api/jobs/${at(n)}/start`),
  stopJob: (n: string) => call<JobDetail>("POST", `/api/jobs/${at(n)}/stop`),
  dropJob: (n: string) => call<void>("DELETE", `/api/jobs/${at(n)}`),
  jobState: (n: string) => call<JobState>("GET", `/api/jobs/${at(n)}/state`),
  versions: (n: string) => call<Version[]>("GET", `/api/jobs/${at(n)}/versions`),
  apply: (sql: string, dryRun: boolean) => call<Applied>("POST", "/api/apply", { sql: /;\s*$/.test(sql) ? sql : `${sql};`, file: "console", dry_run: dryRun }),
  lateness: (stream: string) => call<Lateness>("GET", `/api/streams/${encodeURIComponent(stream)}/lateness`),
  topics: () => call<Topic[]>("GET", "/api/topics"),
  messages: (n: string) => call<Message[]>("GET", `/api/topics/${at(n)}/messages?last=10&limit=40`),
  definitions: () => call<Definition[]>("GET", "/api/definitions"),
  functions: () => call<FunctionEntry[]>("GET", "/api/functions"),
  activity: () => call<Activity[]>("GET", "/api/activity?limit=200"),
};

/** Follows a job; the answer stops following. */
export function followJob(name: string, onJob: (j: JobDetail) => void, onProblem: (p: Problem) => void): () => void {
  const source = new EventSource(`/api/jobs/${at(name)}/live`);
  source.addEventListener("job", (e) => onJob(JSON.parse(e.data)));
  source.addEventListener("problem", (e) => {
    const p = JSON.parse(e.data);
    source.close();
    onProblem(new Problem(p.status, p.detail));
  });
  source.onerror = () => {
    if (source.readyState === EventSource.CLOSED) onProblem(new Problem(404, `There is no job called ${name}, or the service does not answer.`));
    else onProblem(new Problem(0, "The service does not answer; trying again …"));
  };
  return () => source.close();
}

/** Runs a live query until it ends or the signal aborts it. */
export async function runQuery(
  sql: string,
  signal: AbortSignal,
  on: { columns: (c: Column[]) => void; rows: (r: Row[]) => void; end: (steps: Step[]) => void },
): Promise<void> {
  const r = await fetch("/api/query", {
    method: "POST", signal, headers: { "Content-Type": "application/json" }, body: JSON.stringify({ sql, file: "query" }),
  });
  if (!r.ok || !r.body) throw await problemOf(r);
  const reader = r.body.pipeThrough(new TextDecoderStream()).getReader();
  let text = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) return;
    text += value;
    for (let cut = text.indexOf("\n\n"); cut >= 0; cut = text.indexOf("\n\n")) {
      const event = text.slice(0, cut);
      text = text.slice(cut + 2);
      const [first = "", second = ""] = event.split("\n");
      const data = JSON.parse(second.slice("data: ".length));
      switch (first.slice("event: ".length)) {
        case "columns": on.columns(data); break;
        case "rows": on.rows(data); break;
        case "end": on.end(data.status.steps ?? []); break;
        case "problem": throw new Problem(data.status, data.detail, data.diagnostics ?? []);
      }
    }
  }
}
