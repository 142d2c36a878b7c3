import { expect, test } from "vitest";
import { above, folder } from "./addresses";

test("the directory of a pattern", () => {
  expect(folder("archive/reads/*.json")).toBe("archive/reads/");
  expect(folder("archive/**")).toBe("archive/");
  expect(folder("*.json")).toBe("");
  expect(folder("race.splits")).toBe("race.splits");
});

test("the ways up from an address", () => {
  expect(above("", "s3://race/in/day/x.json")).toEqual(["", "s3://race/", "s3://race/in/", "s3://race/in/day/"]);
  expect(above("/data/archive", "/data/archive/mat=km-05/part-1.parquet")).toEqual([
    "/data/archive",
    "/data/archive/",
    "/data/archive/mat=km-05/",
  ]);
  expect(above("", "race.splits")).toEqual([""]);
});
