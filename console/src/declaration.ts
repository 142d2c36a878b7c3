// The statement that a form of a declaration stands for.
import type { PlaceEntry } from "./api";
import { sqlName, sqlText } from "./sql";

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

/** What stands behind an option in SQL. */
function given(kind: string, words: string[], text: string) {
  if (kind === "names") {
    const list = text
      .split(",")
      .map((n) => n.trim())
      .filter((n) => n);
    return `(${list.map(sqlName).join(", ")})`;
  }
  if (kind === "word" && words.length === 0) return sqlText(text);
  return text.trim();
}

/** The statement, with the options of its role that are said. */
export function declaration(d: Declared, of: PlaceEntry) {
  const options = of.options
    .filter((o) => o.role === d.role && (d.options[o.name] ?? "").trim() !== "")
    .map((o) => `${o.name} ${given(o.kind, o.words, d.options[o.name] ?? "")}`);
  const behind = options.length > 0 ? ` (${options.join(", ")})` : "";
  const name = sqlName(d.name.trim() || `my_${d.role}`);
  const address = sqlText(d.address.trim());
  if (d.role === "endpoint") {
    const secret = d.secret.trim() ? ` SECRET ${sqlText(d.secret.trim())}` : "";
    return `DECLARE ENDPOINT ${name} ${of.place} ${address}${secret}${behind};`;
  }
  const via = of.endpoint && (d.via.trim() || !of.here) ? ` VIA ${sqlName(d.via.trim() || "my_endpoint")}` : "";
  if (d.role === "sink") return `DECLARE SINK ${name} TO ${of.place} ${address}${via}${behind};`;
  const columns = d.columns.trim() ? ` (${d.columns.trim()})` : " COLUMNS SAMPLED";
  return `DECLARE ${d.role.toUpperCase()} ${name}${columns} FROM ${of.place} ${address}${via}${behind};`;
}
