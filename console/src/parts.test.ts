import { expect, test, vi } from "vitest";
// What the pages keep in the browser.
vi.hoisted(() => vi.stubGlobal("localStorage", { getItem: () => null, setItem: () => undefined }));

import { differences } from "./activity";
import { ago, bytes, count, length } from "./parts";
import { fields } from "./topics";

test("sizes, lengths and ages are written short", () => {
  expect([0, 999, 1000, 1_500_000, 2_340_000_000].map(bytes)).toEqual(["0 B", "999 B", "1.0 kB", "1.5 MB", "2.34 GB"]);
  expect([5000, 1_500_000, 300_000_000, 7_200_000_000].map(length)).toEqual(["5 ms", "1.5 s", "5 min", "2.0 h"]);
  expect(count(1234567)).toBe("1,234,567");
  const before = (s: number) => new Date(Date.now() - s * 1000).toISOString();
  expect([0, 59, 600, 7200].map((s) => ago(before(s)))).toEqual(["0 s ago", "59 s ago", "10 min ago", "2 h ago"]);
  expect(ago(before(-5))).toBe("0 s ago"); // a clock that is ahead
});

test("the fields of a CSV record", () => {
  for (const [record, want] of [
    ["a,b", ["a", "b"]],
    ["a,", ["a", ""]],
    [",", ["", ""]],
    ["", [""]],
    ['"a,b","say ""hi""",c', ["a,b", 'say "hi"', "c"]],
  ] as [string, string[]][])
    expect(fields(record), record).toEqual(want);
});

test("differences keep every line of both texts, in order", () => {
  const some = ["a", "b", "c", "a"];
  for (let i = 0; i < 256; i++) {
    const x = Array.from({ length: i % 5 }, (_, k) => some[(i >> k) % 4]!);
    const y = Array.from({ length: (i >> 3) % 5 }, (_, k) => some[(i >> (k + 1)) % 4]!);
    const d = differences(x.join("\n"), y.join("\n"));
    const of = (signs: string) => d.filter((l) => signs.includes(l.sign)).map((l) => l.text);
    expect(of(" -")).toEqual(x.length ? x : [""]);
    expect(of(" +")).toEqual(y.length ? y : [""]);
  }
  expect(differences("a\nb\nc", "a\nx\nc").map((l) => l.sign + l.text)).toEqual([" a", "-b", "+x", " c"]);
});
