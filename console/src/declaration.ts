// The statement that a form of a declaration stands for.
import type { PlaceEntry } from "./api";

export const roles = ["stream", "table", "sink", "endpoint"] as const;
export type Role = (typeof roles)[number];

export interface Declared {
  role: Role;
  place: string;
  name: string;
  address: string;
  via: string;
  secret: string;
  columns: string;
  options: Record<string, string>;
}

const quoted = (text: string) => `'${text.replaceAll("'", "''")}'`;
const named = (name: string) => (/^[a-z_][a-z0-9_]*$/.test(name) ? name : `"${name.replaceAll('"', '""')}"`);

/** What stands behind an option in SQL. */
function given(kind: string, words: string[], text: string) {
  if (kind === "names") {
    const list = text
      .split(",")
      .map((n) => n.trim())
      .filter((n) => n);
    return `(${list.map(named).join(", ")})`;
  }
  if (kind === "word" && words.length === 0) return quoted(text);
  return text.trim();
}

/** The statement, with the options of its role that are said. */
export function declaration(d: Declared, of: PlaceEntry) {
  const options = of.options
    .filter((o) => o.role === d.role && (d.options[o.name] ?? "").trim() !== "")
    .map((o) => `${o.name} ${given(o.kind, o.words, d.options[o.name] ?? "")}`);
  const behind = options.length > 0 ? ` (${options.join(", ")})` : "";
  const name = named(d.name.trim() || `my_${d.role}`);
  const address = quoted(d.address.trim());
  if (d.role === "endpoint") {
    const secret = d.secret.trim() ? ` SECRET ${quoted(d.secret.trim())}` : "";
    return `DECLARE ENDPOINT ${name} ${of.place} ${address}${secret}${behind};`;
  }
  const via = of.endpoint && (d.via.trim() || !of.here) ? ` VIA ${named(d.via.trim() || "my_endpoint")}` : "";
  if (d.role === "sink") return `DECLARE SINK ${name} TO ${of.place} ${address}${via}${behind};`;
  const columns = d.columns.trim() ? ` (${d.columns.trim()})` : " COLUMNS SAMPLED";
  return `DECLARE ${d.role.toUpperCase()} ${name}${columns} FROM ${of.place} ${address}${via}${behind};`;
}
