import { expect, test } from "vitest";
import { guess, questions, worded, type Source } from "./ask";

const reads = {
  name: "reads",
  kind: "stream",
  columns: [
    { name: "chip", type: "VARCHAR" },
    { name: "at", type: "TIMESTAMP" },
    { name: "rssi", type: "DOUBLE" },
    { name: "Lat", type: "DOUBLE" },
    { name: "lon", type: "DOUBLE" },
    { name: "device", type: "ROW(serial VARCHAR)" },
  ],
} as Source;

test("each kind of panel gets a query of the answers that are guessed", () => {
  for (const kind of ["series", "bars", "number", "table", "heat", "histogram", "states", "map", "areas"]) {
    const w = worded(kind, reads, guess(kind, reads));
    expect(w.missing).toBeUndefined();
    expect(w.query).toMatch(/^SELECT /);
    expect(w.query).not.toContain("undefined");
    expect(w.title).not.toBe("");
    for (const q of questions(kind, reads)) expect(q.choices.length).toBeGreaterThan(0);
  }
});

test("places are guessed by their names, and odd names are quoted", () => {
  const w = worded("map", reads, guess("map", reads));
  expect(w.query).toContain(`lon, "Lat"`);
  expect(w.options).toMatchObject({ across: "lon", up: "Lat" });
});

test("measures are counted, or computed of a column", () => {
  const ask = { ...guess("bars", reads), by: "chip" };
  expect(worded("bars", reads, { ...ask, of: "AVG rssi" }).query).toContain("AVG(rssi) AS average_rssi");
  expect(worded("bars", reads, { ...ask, of: "DISTINCT chip" }).query).toContain("COUNT(DISTINCT chip) AS chip_n");
});

test("what the rows do not have is said", () => {
  const bare = { name: "b", kind: "stream", columns: [{ name: "s", type: "VARCHAR" }] } as Source;
  expect(worded("histogram", bare, guess("histogram", bare)).missing).toContain("has no column");
  expect(worded("states", bare, guess("states", bare)).missing).toContain("has no time");
  const table = { ...reads, kind: "table" } as Source;
  expect(worded("series", table, guess("series", table)).missing).toContain("have no time");
  expect(worded("bars", table, guess("bars", table)).query).not.toContain("FORGET");
});
