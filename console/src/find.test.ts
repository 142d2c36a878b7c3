import { expect, test } from "vitest";
import { find } from "./find";

const all = [
  { kind: "page", name: "Jobs", about: "what runs", to: "/" },
  { kind: "job", name: "crowding", about: "running", to: "/jobs/crowding" },
  { kind: "sink", name: "crowd_table", about: "DECLARE SINK crowd_table TO MARIADB", to: "/declared/crowd_table" },
  { kind: "stream", name: "crowd", about: "", to: "/declared/crowd" },
  { kind: "function", name: "count", about: "how many", to: "/work" },
];
const names = (text: string) => find(all, text).map((t) => t.name);

test("what is called like that comes first, then what begins with it, then what has it", () => {
  expect(names("crowd")).toEqual(["crowd", "crowding", "crowd_table"]);
  expect(names("CROWD sink")).toEqual(["crowd_table"]);
  expect(names("mariadb")).toEqual(["crowd_table"]);
  expect(names("nothing")).toEqual([]);
});

test("without a text all but functions is there", () => {
  expect(names(" ")).toEqual(["Jobs", "crowding", "crowd_table", "crowd"]);
  expect(names("count")).toEqual(["count"]);
});
