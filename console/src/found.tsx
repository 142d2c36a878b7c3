// Tables that several pages show: what a new version takes over, what was found of connections, and rows that were set aside.
import type { Change, Connection, Sample } from "./api";
import { count, Empty, length, Sheet, Td, Th } from "./parts";

const tones: Record<string, string> = { kept: "text-river", afresh: "text-sand", gone: "text-clay", new: "text-ink" };

/** What a new version of a job takes over. */
export function Changes({ list }: { list: Change[] }) {
  return (
    <table className="w-full" data-testid="changes">
      <thead><tr><Th>What</Th><Th>Step</Th><Th>That is</Th></tr></thead>
      <tbody>
        {list.map((c, i) => (
          <tr key={i}><Td><span className={`font-medium ${tones[c.what] ?? ""}`}>{c.what}</span></Td><Td>{c.step} <span className="text-soft">{c.kind}</span></Td><Td>{c.detail ?? ""}</Td></tr>
        ))}
      </tbody>
    </table>
  );
}

/** Connection tests, each with what was found. */
export function Connections({ list }: { list: Connection[] }) {
  if (list.length === 0) return <Empty>Nothing is declared yet.</Empty>;
  return (
    <table className="w-full" data-testid="connections">
      <thead><tr><Th>Name</Th><Th>Place</Th><Th>Found</Th></tr></thead>
      <tbody>
        {list.map((c) => (
          <tr key={`${c.kind} ${c.name}`}>
            <Td><span className="font-medium">{c.name}</span> <span className="text-soft">{c.kind}</span></Td>
            <Td><span className="text-soft">{c.place}</span> {c.address}</Td>
            <td className="border-t border-line/70 px-3 py-1.5 align-top text-xs">
              {c.checks.map((k) => <div key={k.what} className={k.ok ? "" : "text-clay"}><span className="font-medium">{k.ok ? "✓" : "✗"} {k.what}</span>: {k.detail}</div>)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

type Total = { kind: "late" | "rejected"; step: string; class: string; rows: number };

/** How many rows were set aside, by step and reason. onChoose narrows the list to one of them. */
export function Reasons({ reasons, onChoose }: { reasons: Total[]; onChoose?: (t: Total) => void }) {
  const most = Math.max(1, ...reasons.map((r) => r.rows));
  if (reasons.length === 0) return null;
  return (
    <Sheet title="By reason" aside="all rows are counted, also those of which no sample is kept">
      <table className="w-full" data-testid="reasons">
        <thead><tr><Th>Kind</Th><Th>Step</Th><Th>Reason</Th><Th right>Rows</Th><Th /></tr></thead>
        <tbody>
          {reasons.map((r, i) => (
            <tr key={i}>
              <Td><span className={r.kind === "late" ? "text-sand" : "text-clay"}>{r.kind}</span></Td><Td>{r.step}</Td>
              <td className="border-t border-line/70 px-3 py-1.5 text-xs">{onChoose ? <button type="button" className="cursor-pointer text-left text-river hover:underline" onClick={() => onChoose(r)}>{r.class}</button> : r.class}</td>
              <Td right>{count(r.rows)}</Td>
              <td className="w-40 border-t border-line/70 px-3"><div className="h-2 overflow-hidden rounded-full bg-line" aria-hidden="true"><div className={r.kind === "late" ? "h-full bg-sand" : "h-full bg-clay"} style={{ width: `${(r.rows / most) * 100}%` }} /></div></td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  );
}

/** Late and rejected rows as a run has them. */
export function SampleRows({ rows }: { rows: Sample[] }) {
  if (rows.length === 0) return <Empty>No row was late or rejected.</Empty>;
  return (
    <table className="w-full" data-testid="samples">
      <thead><tr><Th>Step</Th><Th>Kind</Th><Th>Reason</Th><Th>Origin</Th><Th>Row</Th></tr></thead>
      <tbody>
        {rows.map((s) => (
          <tr key={s.seq}>
            <Td>{s.step}</Td>
            <Td><span className={s.kind === "late" ? "text-sand" : "text-clay"}>{s.kind}{s.late_by ? ` by ${length(s.late_by)}` : ""}</span></Td>
            <td className="min-w-52 border-t border-line/70 px-3 py-1.5 align-top text-xs leading-5">{s.reason}</td>
            <Td mono>{s.origin ?? "–"}</Td><Td mono wide>{s.row}</Td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
