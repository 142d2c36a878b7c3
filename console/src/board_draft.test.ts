import { describe, expect, it } from "vitest";
import type { PanelParts } from "./api";
import { BoardDraft, keysOf, type Taken } from "./board_draft";

const panel = (title: string): PanelParts => ({ title, kind: "text", words: title, options: [] });

/** What the service would take: a text is the titles of panels, with commas between; "!" is no text of a board. */
function taken(body: { sql?: string; parts?: Taken["parts"] }): Taken {
  const titles = body.sql !== undefined ? body.sql.split(",") : body.parts!.panels.map((p) => p.title);
  if (titles.some((t) => t.includes("!"))) throw new Error("no board");
  const panels = titles.map((t) => panel(t.trim()));
  return { sql: panels.map((p) => p.title).join(", "), parts: { name: "b", panels } as Taken["parts"] };
}

/** A draft whose service answers when it is told to. */
function world(wait = 0) {
  const asked: (() => Promise<void>)[] = [];
  const draft = new BoardDraft(
    (body) =>
      new Promise((done, fail) => {
        asked.push(async () => {
          try {
            done(taken(body));
          } catch (e) {
            fail(e as Error);
          }
        });
      }),
    wait,
  );
  const soon = () => new Promise((f) => setTimeout(f, 1));
  /** Answers all that is asked, and what is asked then. */
  const answer = async () => {
    for (await soon(); asked.length > 0; await soon()) await asked.shift()!();
  };
  const begun = async (text: string) => {
    void draft.begin(Promise.resolve(text));
    await answer();
  };
  return { draft, answer, begun, asked, soon };
}

const last = (panels: PanelParts[]) => [...panels.slice(1), panels[0]!];

describe("a board that is being changed", () => {
  it("keeps what is typed while the service answers to what was typed before", async () => {
    const { draft, answer, begun, asked, soon } = world();
    await begun("a,b");
    expect(draft.now.text).toBe("a, b");
    draft.type("a, b,c");
    while (asked.length === 0) await soon();
    draft.type("a, b,c,d");
    await answer();
    expect(draft.now.text).toBe("a, b,c,d");
    expect(draft.now.taken?.parts.panels.map((p) => p.title)).toEqual(["a", "b", "c", "d"]);
  });
  it("keeps what is typed while a change by hand is answered", async () => {
    const { draft, answer, begun, asked, soon } = world();
    await begun("a,b");
    const moved = draft.change(last);
    while (asked.length === 0) await soon();
    draft.type("a, b, typed");
    await answer();
    expect(await moved).toBe(true);
    expect(draft.now.text).toBe("a, b, typed");
    expect(draft.now.taken?.sql).toBe("a, b, typed");
    await Promise.all([draft.undo(), answer()]);
    expect(draft.now.text).toBe("b, a");
  });
  it("takes what is typed before a change by hand, which is made of it", async () => {
    const { draft, answer, begun } = world(1e6);
    await begun("a,b");
    draft.type("a,b,c");
    await Promise.all([draft.change(last), answer()]);
    expect(draft.now.text).toBe("b, c, a");
    await Promise.all([draft.undo(), answer()]);
    expect(draft.now.text).toBe("a, b, c");
    await Promise.all([draft.undo(), answer()]);
    expect(draft.now.text).toBe("a, b");
    expect(draft.now.past).toEqual([]);
  });
  it("counts each of several changes that come at once", async () => {
    const { draft, answer, begun } = world();
    await begun("a,b,c");
    void draft.change(last);
    void draft.change(last);
    await answer();
    expect(draft.now.text).toBe("c, a, b");
  });
  it("does not write over a text that cannot be taken, and takes it back first", async () => {
    const { draft, answer, begun } = world(1e6);
    await begun("a,b");
    draft.type("a,b!");
    const moved = draft.change(last);
    await answer();
    expect(await moved).toBe(false);
    expect(draft.now).toMatchObject({ text: "a,b!", fault: "no board" });
    await Promise.all([draft.undo(), answer()]);
    expect(draft.now).toMatchObject({ text: "a, b", fault: "" });
  });
  it("knows panels that are called alike apart", () => {
    expect(keysOf([panel("a"), panel("b"), panel("a")])).toEqual(["a#0", "b#0", "a#1"]);
  });
});
