import { expect, test } from "vitest";
import { looked, perSecond } from "./rate";

test("a rate is what came, by the time that went by, smoothed", () => {
  let m = looked(undefined, 0, { a: 100 });
  expect(m.rates).toEqual({});
  m = looked(m, 1000, { a: 300, b: 5 });
  expect(m.rates).toEqual({ a: 200 });
  m = looked(m, 2000, { a: 300, b: 15 });
  expect(m.rates).toEqual({ a: 100, b: 10 });
});

test("looks too close together change nothing, and what begins anew has no rate below nothing", () => {
  const m = looked(looked(undefined, 0, { a: 100 }), 1000, { a: 200 });
  expect(looked(m, 1200, { a: 900 })).toBe(m);
  expect(looked(m, 2000, { a: 0 }).rates.a).toBe(50);
});

test("rates are written short", () => {
  expect([undefined, 0, 0.25, 9.96, 12.4, 1234].map(perSecond)).toEqual([
    "–",
    "0/s",
    "0.3/s",
    "10.0/s",
    "12/s",
    "1.2k/s",
  ]);
});
