// Tables that several pages show: what a new version takes over, what was found of connections, and rows that were set aside.
import type { Change, Connection, Sample } from "./api";
import { count, Empty, length, Rows, Sheet } from "./parts";
import { say } from "./i18n";

const tones: Record<string, string> = { kept: "text-river", afresh: "text-sand", gone: "text-clay", new: "text-ink" };

/** What a new version of a job takes over. */
export function Changes({ list }: { list: Change[] }) {
  return (
    <Rows
      testid="changes"
      of={list}
      id={(_, i) => i}
      columns={[
        { head: say("What"), of: (c) => <span className={`font-medium ${tones[c.what] ?? ""}`}>{c.what}</span> },
        {
          head: say("Step"),
          of: (c) => (
            <>
              {c.step} <span className="text-soft">{c.kind}</span>
            </>
          ),
        },
        { head: say("That is"), of: (c) => c.detail ?? "" },
      ]}
    />
  );
}

/** What sinks have made or changed at their places. */
export function Lines({ of }: { of?: string[] }) {
  return of?.map((line) => <div key={line}>{line}</div>);
}

/** Connection tests, each with what was found. */
export function Connections({ list }: { list: Connection[] }) {
  if (list.length === 0) return <Empty>{say("Nothing is declared yet.")}</Empty>;
  return (
    <Rows
      testid="connections"
      of={list}
      id={(c) => `${c.kind} ${c.name}`}
      columns={[
        {
          head: say("Name"),
          of: (c) => (
            <>
              <span className="font-medium">{c.name}</span> <span className="text-soft">{c.kind}</span>
            </>
          ),
        },
        {
          head: say("Place"),
          of: (c) => (
            <>
              <span className="text-soft">{c.place}</span> {c.address}
            </>
          ),
        },
        {
          head: say("Found"),
          wrap: "text-xs",
          of: (c) =>
            c.checks.map((k) => (
              <div key={k.what} className={k.ok ? "" : "text-clay"}>
                <span className="font-medium">
                  {k.ok ? "✓" : "✗"} {k.what}
                </span>
                : {k.detail}
              </div>
            )),
        },
      ]}
    />
  );
}

type Total = { kind: "late" | "rejected"; step: string; class: string; rows: number };

/** How many rows were set aside, by step and reason. onChoose narrows the list to one of them. */
export function Reasons({ reasons, onChoose }: { reasons: Total[]; onChoose?: (t: Total) => void }) {
  const most = Math.max(1, ...reasons.map((r) => r.rows));
  if (reasons.length === 0) return null;
  return (
    <Sheet title={say("By reason")} aside="all rows are counted, also those of which no sample is kept">
      <Rows
        testid="reasons"
        of={reasons}
        id={(_, i) => i}
        columns={[
          {
            head: say("Kind"),
            of: (r) => <span className={r.kind === "late" ? "text-sand" : "text-clay"}>{r.kind}</span>,
          },
          { head: say("Step"), of: (r) => r.step },
          {
            head: say("Reason"),
            wrap: "text-xs",
            of: (r) =>
              onChoose ? (
                <button
                  type="button"
                  className="cursor-pointer text-left text-river hover:underline"
                  onClick={() => onChoose(r)}
                >
                  {r.class}
                </button>
              ) : (
                r.class
              ),
          },
          { head: say("Rows"), right: true, of: (r) => count(r.rows) },
          {
            wrap: "w-40",
            of: (r) => (
              <div className="h-2 overflow-hidden rounded-full bg-line" aria-hidden="true">
                <div
                  className={r.kind === "late" ? "h-full bg-sand" : "h-full bg-clay"}
                  style={{ width: `${(r.rows / most) * 100}%` }}
                />
              </div>
            ),
          },
        ]}
      />
    </Sheet>
  );
}

/** Late and rejected rows as a run has them. */
export function SampleRows({ rows }: { rows: Sample[] }) {
  if (rows.length === 0) return <Empty>{say("No row was late or rejected.")}</Empty>;
  return (
    <Rows
      testid="samples"
      of={rows}
      id={(s) => s.seq}
      columns={[
        { head: say("Step"), of: (s) => s.step },
        {
          head: say("Kind"),
          of: (s) => (
            <span className={s.kind === "late" ? "text-sand" : "text-clay"}>
              {s.kind}
              {s.late_by ? say(" by {{0}}", { 0: length(s.late_by) }) : ""}
            </span>
          ),
        },
        { head: say("Reason"), wrap: "min-w-52 text-xs leading-5", of: (s) => s.reason },
        { head: say("Origin"), mono: true, of: (s) => s.origin ?? "–" },
        { head: say("Row"), mono: true, wide: true, of: (s) => s.row },
      ]}
    />
  );
}
