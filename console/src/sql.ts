// Names, texts and types as SQL has them.
import words from "./words.json";

const quoted = new Set(words);

export const sqlText = (s: string) => `'${s.replaceAll("'", "''")}'`;

/** A name, in quotes where it has to be: as the service writes it. */
export const sqlName = (s: string) =>
  /^[a-z_][a-z0-9_]*$/.test(s) && !quoted.has(s) ? s : `"${s.replaceAll('"', '""')}"`;

/** A column's name as it stands in SQL; one inside a row has a dot. */
export const sqlPath = (name: string) => name.split(".").map(sqlName).join(".");

export const isNumber = (t: string) => /^(INT|BIGINT|DOUBLE|DECIMAL)/.test(t);
export const isText = (t: string) => t.startsWith("VARCHAR");
export const isTime = (t: string) => t === "TIMESTAMP";
