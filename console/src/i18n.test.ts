/// <reference types="vite/client" />
import { expect, test } from "vitest";
import { said, say } from "./i18n";
import en from "./texts/en.json";

const sources = import.meta.glob<string>(["./*.ts", "./*.tsx", "!./*.test.ts", "!./*.d.ts"], {
  query: "?raw",
  import: "default",
  eager: true,
});

/** The texts that a source asks for, as they are written behind say(. */
const asked = (source: string) =>
  [...source.matchAll(/\bsay\(\s*("(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')/g)].map((m) => {
    const text = m[1]!;
    return text.startsWith("'") ? text.slice(1, -1).replaceAll("\\'", "'") : (JSON.parse(text) as string);
  });

test("every text that is asked for is among the texts, and no other", () => {
  const used = new Set(Object.values(sources).flatMap(asked));
  expect(used.size).toBeGreaterThan(500);
  expect([...used].filter((text) => !(text in en))).toEqual([]);
  expect(Object.keys(en).filter((text) => !used.has(text))).toEqual([]);
});

test("another language says what it has, and English else", () => {
  const it = { "since {{0}}": "da {{0}}", "{{0}} of {{1}}": "di {{1}} {{0}}" };
  expect(said(it, "since {{0}}", { 0: "<b>{{1}}</b>", 1: "x" })).toBe("da <b>{{1}}</b>");
  expect(said(it, "{{0}} of {{1}}", { 0: 1, 1: "a" })).toBe("di a 1");
  expect(said(it, "Jobs")).toBe("Jobs");
  expect(say("since {{0}}", { 0: 0 })).toBe("since 0");
});
