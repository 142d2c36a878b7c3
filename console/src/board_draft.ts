// A board that is being changed, by hand and as text at once: changes are taken one after the other, each of what the one before left, and what
// is typed is never written over by the answer to something earlier.
import { problemOf, type BoardParts, type PanelParts } from "./api";

export type Taken = { sql: string; parts: BoardParts; problem?: string };
type Body = { sql: string } | { parts: BoardParts };

export type Shown = {
  /** What stands in the editor. */
  text: string;
  /** What the service took last. */
  taken?: Taken;
  /** Why the last change was not taken; "" where it was. */
  fault: string;
  /** Texts of before, the newest last. */
  past: string[];
};

const mostPast = 100;

/** The names of panels by which they are found again: their titles, and which of those that are called alike. */
export const keysOf = (panels: PanelParts[]) =>
  panels.map((p, i) => `${p.title}#${panels.slice(0, i).filter((x) => x.title === p.title).length}`);

export class BoardDraft {
  now: Shown = { text: "", fault: "", past: [] };
  private queue: Promise<unknown> = Promise.resolve();
  private typing?: ReturnType<typeof setTimeout>;
  /** How often something was typed. */
  private keys = 0;
  private listeners = new Set<() => void>();

  /** put has the service take a text or parts; what is typed is taken when nothing was for wait milliseconds. */
  constructor(
    private put: (body: Body) => Promise<Taken>,
    private wait = 500,
  ) {}

  subscribe = (f: () => void) => {
    this.listeners.add(f);
    return () => void this.listeners.delete(f);
  };
  snapshot = () => this.now;

  private show(some: Partial<Shown>) {
    this.now = { ...this.now, ...some };
    for (const f of this.listeners) f();
  }

  /** Has the service take what make says of what was taken before it; undefined: nothing. */
  private take(make: () => Body | undefined, back = false): Promise<boolean> {
    const keys = this.keys;
    const made = this.queue.then(async () => {
      const body = make();
      if (!body) return false;
      const before = this.now.taken?.sql;
      try {
        const d = await this.put(body);
        // A text stays as it is typed until it is changed by hand.
        const taken = "sql" in body && !back ? { ...d, sql: body.sql } : d;
        const past = back ? this.now.past : before === undefined ? [] : [...this.now.past, before].slice(-mostPast);
        this.show({ taken, past, fault: "", ...(keys === this.keys && { text: taken.sql }) });
        return true;
      } catch (e) {
        this.show({ fault: problemOf(e)!.message });
        return false;
      }
    });
    this.queue = made;
    return made;
  }

  /** The text that it begins with; it is laid out. */
  async begin(sql: Promise<string>) {
    try {
      const text = await sql;
      await this.take(() => ({ sql: text }), true);
    } catch (e) {
      this.show({ fault: problemOf(e)!.message });
    }
  }

  type(text: string) {
    if (text === this.now.text) return;
    this.keys++;
    this.show({ text });
    clearTimeout(this.typing);
    this.typing = setTimeout(() => this.typed(), this.wait);
  }

  private typed() {
    if (this.typing === undefined) return;
    clearTimeout(this.typing);
    this.typing = undefined;
    void this.take(() => (this.now.text === this.now.taken?.sql ? undefined : { sql: this.now.text }));
  }

  /** Changes the panels as they are when its turn comes. A text that cannot be taken is not written over: it has to be mended first. */
  change(f: (panels: PanelParts[]) => PanelParts[]): Promise<boolean> {
    this.typed();
    return this.take(() => {
      const { taken, text } = this.now;
      if (!taken || text !== taken.sql) return undefined;
      const panels = f(taken.parts.panels);
      return panels === taken.parts.panels ? undefined : { parts: { ...taken.parts, panels } };
    });
  }

  /** Takes the last change back: first what was typed and could not be taken. */
  undo(): Promise<boolean> {
    this.typed();
    return this.take(() => {
      const { taken, text, past } = this.now;
      if (taken && text !== taken.sql) return { sql: taken.sql };
      const before = past.at(-1);
      if (before === undefined) return undefined;
      this.show({ past: past.slice(0, -1) });
      return { sql: before };
    }, true);
  }

  /** Waits until all is taken, and says how it stands then. */
  async settled(): Promise<Shown> {
    this.typed();
    await this.queue;
    return this.now;
  }
}
