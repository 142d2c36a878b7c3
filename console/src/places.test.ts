import { describe, expect, it } from "vitest";
import type { PlaceEntry } from "./api";
import { declaration, type Declared } from "./declaration";

const broker: PlaceEntry = {
  place: "BROKER",
  about: "",
  example: "",
  roles: ["stream", "sink", "endpoint"],
  endpoint: true,
  here: false,
  options: [
    { name: "FORMAT", role: "stream", kind: "word", takes: "", words: ["json", "csv"], default: "json", about: "" },
    { name: "DELIMITER", role: "stream", kind: "word", takes: "", words: [], default: "','", about: "" },
    { name: "KEY", role: "sink", kind: "names", takes: "", words: [], default: "", about: "" },
    { name: "CA", role: "endpoint", kind: "word", takes: "", words: [], default: "", about: "" },
  ],
};
const begun: Declared = {
  role: "stream",
  place: "BROKER",
  name: "reads",
  address: "it's",
  via: "harbour",
  secret: "",
  columns: "",
  options: {},
};

describe("the statement of a form", () => {
  it("leaves out what is not said", () => {
    expect(declaration(begun, broker)).toBe("DECLARE STREAM reads COLUMNS SAMPLED FROM BROKER 'it''s' VIA harbour;");
  });
  it("writes options as they are written in SQL, and those of its role alone", () => {
    const options = { FORMAT: "csv", DELIMITER: "'", KEY: "a", CA: "x" };
    expect(declaration({ ...begun, columns: "n INT", options }, broker)).toBe(
      "DECLARE STREAM reads (n INT) FROM BROKER 'it''s' VIA harbour (FORMAT csv, DELIMITER '''');",
    );
  });
  it("quotes names that need it", () => {
    const d = { ...begun, role: "sink" as const, name: "My sink", options: { KEY: "chip, Mat" } };
    expect(declaration(d, broker)).toBe(`DECLARE SINK "My sink" TO BROKER 'it''s' VIA harbour (KEY (chip, "Mat"));`);
  });
  it("goes without an endpoint where the place may", () => {
    expect(declaration({ ...begun, via: "" }, broker)).toContain(" VIA my_endpoint;");
    expect(declaration({ ...begun, via: "" }, { ...broker, here: true })).not.toContain("VIA");
    expect(declaration(begun, { ...broker, here: true })).toContain(" VIA harbour;");
  });
  it("declares endpoints", () => {
    const d = { ...begun, role: "endpoint" as const, address: "u@h:1", secret: "s", options: { CA: "ca" } };
    expect(declaration(d, broker)).toBe("DECLARE ENDPOINT reads BROKER 'u@h:1' SECRET 's' (CA 'ca');");
  });
});
