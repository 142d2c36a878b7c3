// A board that is being changed: its panels are moved, sized, made and dropped by hand, or its text is typed; each shows at once in the other.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, useSyncExternalStore } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, problemOf, type PanelParts, type Words } from "./api";
import { BoardDraft, keysOf } from "./board_draft";
import { boardGrid, useBoard } from "./boards";
import Editor from "./editor";
import { PanelBox } from "./panels";
import { Button, Confirm, Fault, Field, Input, Panel, Select } from "./parts";
import { guess, questions, worded, type Ask } from "./ask";
import { none } from "./standing";
import { say } from "./i18n";
import { sqlName, sqlText } from "./sql";

/** An option of a panel; "" where it has none. */
const option = (p: { options: PanelParts["options"] }, name: string) =>
  p.options?.find((o) => o.name === name)?.value ?? "";

/** A panel with an option changed; without a value it is left out. */
function withOption(p: PanelParts, name: string, value: string, quoted = false): PanelParts {
  const options = (p.options ?? []).filter((o) => o.name !== name);
  if (value !== "") {
    const at = p.options?.findIndex((o) => o.name === name) ?? -1;
    options.splice(at < 0 ? options.length : at, 0, { name, value, quoted });
  }
  return { ...p, options };
}

const sized = (p: PanelParts, wide: number, high: number) =>
  withOption(withOption(p, "wide", String(wide)), "high", String(high));

/** The panels with one of them, found by its key, changed. */
const withPanel = (panels: PanelParts[], key: string, f: (p: PanelParts) => PanelParts) => {
  const at = keysOf(panels).indexOf(key);
  return at < 0 ? panels : panels.map((p, i) => (i === at ? f(p) : p));
};

const bounded = (n: number) => Math.max(1, Math.min(12, n));

const moved = <T,>(list: T[], from: number, to: number) => {
  const out = [...list];
  const [x] = out.splice(from, 1);
  out.splice(to, 0, x!);
  return out;
};

const draftId = () => crypto.getRandomValues(new Uint32Array(4)).join("-");

/** Fresh is the title of a board that is not there yet. */
export default function Arrange({ name, fresh }: { name: string; fresh?: string }) {
  const [id] = useState(draftId);
  const [draft] = useState(() => new BoardDraft((body) => api.boardDraft(id, body)));
  const { text, taken, fault, past } = useSyncExternalStore(draft.subscribe, draft.snapshot);
  const [notKept, setNotKept] = useState("");
  const [form, setForm] = useState<string>(); // the key of a panel, or "" for a new one
  const [dropping, setDropping] = useState(false);
  const [saying, setSaying] = useState("");
  const words = useQuery({ queryKey: ["words"], queryFn: api.words, refetchInterval: 30_000 });
  const functions = useQuery({ queryKey: ["functions"], queryFn: api.functions, refetchInterval: false });
  const go = useNavigate();
  const [, setParams] = useSearchParams();

  useEffect(() => {
    void draft.begin(
      fresh === undefined
        ? api.boards().then((all) => {
            const b = all.find((x) => x.name === name);
            if (!b) throw new Error(`No board is called ${name}.`);
            return b.sql;
          })
        : Promise.resolve(
            `CREATE BOARD ${sqlName(name)} (TITLE ${sqlText(fresh || name)}) PANEL 'About' TEXT (WIDE 12, HIGH 1) 'Say here what this board shows.'`,
          ),
    );
  }, [draft, name, fresh]);
  const changed = past.length > 0 || (taken !== undefined && text !== taken.sql);
  useEffect(() => {
    const lose = (e: BeforeUnloadEvent) => changed && e.preventDefault();
    window.addEventListener("beforeunload", lose);
    return () => window.removeEventListener("beforeunload", lose);
  }, [changed]);

  const keep = async () => {
    setNotKept("");
    const now = await draft.settled();
    if (now.fault || now.taken?.problem) return; // it is said already
    try {
      await api.applyAll(now.text.replace(/CREATE\s+(OR\s+REPLACE\s+)?BOARD/i, "CREATE OR REPLACE BOARD"));
      go(`/boards/${encodeURIComponent(now.taken!.parts.name)}`);
    } catch (e) {
      setNotKept(problemOf(e)!.message);
    }
  };
  const drop = async () => {
    try {
      await api.applyAll(`DROP BOARD ${sqlName(name)}`);
      go("/boards");
    } catch (e) {
      setNotKept(problemOf(e)!.message);
    }
  };
  const parts = taken?.parts;
  const wrong = taken?.problem ?? "";
  const panels = parts?.panels ?? [];
  const edited = form ? panels[keysOf(panels).indexOf(form)] : undefined;
  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-xl font-semibold">{(parts && option(parts, "title")) || name}</h1>
        <span className="text-sand">{say("being changed; nobody else sees it yet")}</span>
        <span className="ml-auto flex flex-wrap gap-2">
          <Button testid="add-panel" disabled={!parts} onClick={() => setForm("")}>
            {say("Add a panel")}
          </Button>
          <Button testid="undo" disabled={!changed} onClick={() => void draft.undo()}>
            {say("Undo")}
          </Button>
          <Button onClick={() => (fresh === undefined ? setParams({}) : go("/boards"))}>
            {say("Leave it as it was")}
          </Button>
          {fresh === undefined && (
            <Button kind="danger" testid="drop-board" onClick={() => setDropping(true)}>
              {say("Drop")}
            </Button>
          )}
          <Button kind="main" testid="keep-board" disabled={!parts || wrong !== ""} onClick={() => void keep()}>
            {say("Keep")}
          </Button>
        </span>
      </div>
      <Confirm
        open={dropping}
        title={say("Drop the board {{0}}?", { 0: name })}
        action={{ label: say("Drop"), run: () => void drop() }}
        onClose={() => setDropping(false)}
      >
        {say("Its text is gone then, unless it stands in a file. The streams and jobs that it shows stay.")}
      </Confirm>
      <p aria-live="polite" className="sr-only">
        {saying}
      </p>
      {(fault || wrong || notKept) && <Fault>{fault || wrong || notKept}</Fault>}
      {parts && <Drawn id={id} name={name} panels={panels} draft={draft} onSay={setSaying} onForm={setForm} />}
      {parts && (
        <details className="rounded-lg border border-line bg-sheet" data-testid="as-text" open>
          <summary className="cursor-pointer px-4 py-2.5 text-sm font-semibold">
            {say("As text ")}
            <span className="font-normal text-soft">
              {say("what is typed here is drawn above, and what is drawn is written here")}
            </span>
          </summary>
          <Editor
            label={say("The board as SQL")}
            whole
            value={text}
            words={words.data}
            functions={functions.data ?? []}
            onChange={(v) => draft.type(v)}
          />
        </details>
      )}
      {form !== undefined && parts && (
        <PanelForm
          key={form}
          part={edited}
          variables={parts.variables?.map((v) => v.name) ?? []}
          words={words.data}
          onClose={() => setForm(undefined)}
          onDone={async (p) => {
            const done = await draft.change((now) => (edited ? withPanel(now, form, () => p) : [...now, p]));
            if (done) setForm(undefined);
          }}
          fault={fault}
        />
      )}
    </div>
  );
}

/** A state whose newest value is known at once, and not when it is drawn. */
function useNewest<T>() {
  const [now, setNow] = useState<T>();
  const newest = useRef<T>(undefined);
  const set = (x: T | undefined) => {
    newest.current = x;
    setNow(x);
  };
  return [now, set, newest] as const;
}

/** The panels over live rows, to be moved and sized by the pointer or the keyboard. */
function Drawn({
  id,
  name,
  panels,
  draft,
  onSay,
  onForm,
}: {
  id: string;
  name: string;
  panels: PanelParts[];
  draft: BoardDraft;
  onSay: (words: string) => void;
  onForm: (key: string) => void;
}) {
  const { board, problem, standing } = useBoard(name, new URLSearchParams({ draft: id }).toString(), false);
  const grid = useRef<HTMLDivElement>(null);
  // What the pointer did last is known before it is drawn: it may be let go at once.
  const [drag, setDrag, dragging] = useNewest<{ from: number; to: number }>();
  const [size, setSize, sizing] = useNewest<{ of: number; wide: number; high: number }>();
  // What is drawn follows a moment later: until then the order and the sizes are those of the text.
  const shown = panels.map((part, i) => {
    const same = (p: { title: string; kind: string }) => p.title === part.title && p.kind === part.kind;
    const at = board && board.panels[i] && same(board.panels[i]) ? i : (board?.panels.findIndex(same) ?? -1);
    return { part, i, live: at < 0 ? undefined : board!.panels[at], now: at < 0 ? none : (standing[at] ?? none) };
  });
  const order = drag ? moved(shown, drag.from, drag.to) : shown;
  const under = (x: number, y: number) => {
    const boxes = [...(grid.current?.children ?? [])];
    return boxes.findIndex((el) => {
      const b = el.getBoundingClientRect();
      return x >= b.left && x <= b.right && y >= b.top && y <= b.bottom;
    });
  };
  const keys = keysOf(panels);
  /** Moves a panel to where to says; it is counted of how the panels stand when its turn comes. */
  const move = (key: string, to: (at: number, keys: string[]) => number) =>
    void draft.change((now) => {
      const keys = keysOf(now);
      const from = keys.indexOf(key);
      const at = from < 0 ? -1 : to(from, keys);
      if (at < 0 || at >= now.length || at === from) return now;
      onSay(`${now[from]!.title} is number ${at + 1} of ${now.length} now`);
      return moved(now, from, at);
    });
  const resize = (key: string, f: (now: { wide: number; high: number }) => { wide: number; high: number }) =>
    void draft.change((panels) => {
      let same = true;
      const out = withPanel(panels, key, (p) => {
        const now = of(p);
        const { wide, high } = f(now);
        same = bounded(wide) === now.wide && bounded(high) === now.high;
        return sized(p, bounded(wide), bounded(high));
      });
      return same ? panels : out;
    });
  const of = (part: PanelParts) => ({
    wide: Math.min(12, Number(option(part, "wide")) || 6),
    high: Number(option(part, "high")) || 3,
  });
  return (
    <>
      {problem && <Fault>{problem.message}</Fault>}
      <div ref={grid} data-testid="board" className={boardGrid}>
        {order.map(({ part, i, live, now }) => {
          const at = size?.of === i ? size : of(part);
          const key = keys[i]!;
          return (
            <PanelBox
              key={key}
              className={drag?.from === i ? "opacity-60 ring-2 ring-river" : ""}
              panel={{
                ...(live ?? { columns: [], kind: part.kind as "text", words: part.words }),
                title: part.title,
                wide: at.wide,
                high: at.high,
              }}
              now={now}
              handle={
                <span className="order-last ml-auto flex shrink-0 gap-1">
                  <button
                    type="button"
                    data-testid="move"
                    aria-label={say("Move {{0}}: drag, or arrow keys; with Shift they size it", { 0: part.title })}
                    title={say("Drag to move; arrow keys move, with Shift they size")}
                    className="cursor-grab touch-none rounded-md border border-line px-2 text-soft hover:text-ink active:cursor-grabbing"
                    onPointerDown={(e) => {
                      e.currentTarget.setPointerCapture(e.pointerId);
                      setDrag({ from: i, to: i });
                    }}
                    onPointerMove={(e) => {
                      const d = dragging.current;
                      const to = under(e.clientX, e.clientY);
                      if (d && to >= 0 && to !== d.to) setDrag({ ...d, to });
                    }}
                    onPointerUp={() => {
                      const d = dragging.current;
                      setDrag(undefined);
                      if (d && d.to !== d.from) move(key, (_, now) => now.indexOf(keys[d.to]!));
                    }}
                    onPointerCancel={() => setDrag(undefined)}
                    onKeyDown={(e) => {
                      const by = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowDown: [0, 1], ArrowUp: [0, -1] }[e.key];
                      if (!by) return;
                      e.preventDefault();
                      const [x, y] = by as [number, number];
                      if (e.shiftKey) resize(key, (now) => ({ wide: now.wide + x, high: now.high + y }));
                      else move(key, (at) => at + x + y);
                    }}
                  >
                    ⠿
                  </button>
                  <Button small testid="change-panel" onClick={() => onForm(key)}>
                    {say("Change")}
                  </Button>
                  <Button
                    small
                    testid="drop-panel"
                    disabled={panels.length === 1}
                    onClick={() => void draft.change((now) => now.filter((_, k) => keysOf(now)[k] !== key))}
                  >
                    {say("Drop")}
                  </Button>
                </span>
              }
              corner={
                <span
                  data-testid="size"
                  aria-hidden="true"
                  className="absolute right-0 bottom-0 size-5 cursor-nwse-resize touch-none bg-[linear-gradient(135deg,transparent_50%,var(--color-soft)_50%)]"
                  onPointerDown={(e) => {
                    e.currentTarget.setPointerCapture(e.pointerId);
                    setSize({ of: i, ...of(part) });
                  }}
                  onPointerMove={(e) => {
                    if (sizing.current?.of !== i) return;
                    const box = e.currentTarget.parentElement!.getBoundingClientRect();
                    const all = grid.current!.getBoundingClientRect();
                    setSize({
                      of: i,
                      wide: bounded(Math.round((e.clientX - box.left) / (all.width / 12))),
                      high: bounded(Math.round((e.clientY - box.top) / 100)),
                    });
                  }}
                  onPointerUp={() => {
                    const s = sizing.current;
                    setSize(undefined);
                    if (s?.of === i) resize(key, () => s);
                  }}
                  onPointerCancel={() => setSize(undefined)}
                />
              }
            />
          );
        })}
      </div>
    </>
  );
}

/** The form of a panel: what it shows, of which query, and its options. */
function PanelForm({
  part,
  variables,
  words,
  onClose,
  onDone,
  fault,
}: {
  part?: PanelParts;
  variables: string[];
  words: Words | undefined;
  onClose: () => void;
  onDone: (p: PanelParts) => void;
  fault: string;
}) {
  const kinds = useQuery({ queryKey: ["panel-kinds"], queryFn: api.panelKinds, refetchInterval: false });
  const functions = useQuery({ queryKey: ["functions"], queryFn: api.functions, refetchInterval: false });
  const [p, setP] = useState<PanelParts>(part ?? { title: "", kind: "series", options: [], query: "" });
  const [ask, setAsk] = useState<Ask>({});
  const [byHand, setByHand] = useState(part !== undefined);
  const sources = words?.names.filter((n) => n.columns.length > 0) ?? [];
  const source = sources.find((s) => s.name === ask.from);
  const made = source && !byHand ? worded(p.kind, source, ask) : undefined;
  const query = byHand ? (p.query ?? "") : (made?.query ?? "");
  const kind = kinds.data?.find((k) => k.kind === p.kind);
  const title = p.title || made?.title || "";
  const good = title !== "" && (p.kind === "text" ? !!p.words : query !== "");
  const takes = (o: { name: string; takes: string }) =>
    !["wide", "high"].includes(o.name) && (byHand || (o.takes !== "column" && !made?.options[o.name]));
  return (
    <Panel open title={part ? `Change ${part.title}` : "Add a panel"} onClose={onClose} wide>
      <div className="grid grid-cols-1 gap-3 sm:grid-cols-2">
        <Field label={say("It shows")}>
          <Select
            testid="panel-kind"
            value={p.kind}
            onChange={(e) => setP({ ...p, kind: e.target.value, options: [] })}
          >
            {kindWords.map(([k, w]) => (
              <option key={k} value={k}>
                {w}
              </option>
            ))}
          </Select>
        </Field>
        <Field label={say("Its title")}>
          <Input
            testid="panel-title"
            value={p.title}
            placeholder={made?.title}
            onChange={(e) => setP({ ...p, title: e.target.value })}
          />
        </Field>
      </div>
      {p.kind === "text" ? (
        <Field label={say("The words")}>
          <textarea
            data-testid="panel-words"
            className="h-32 rounded-md border border-line bg-sheet p-2 text-sm text-ink"
            value={p.words ?? ""}
            onChange={(e) => setP({ ...p, words: e.target.value })}
          />
        </Field>
      ) : (
        <>
          {!byHand && (
            <div className="grid grid-cols-1 gap-3 sm:grid-cols-3" data-testid="questions">
              <Field label={say("Rows of")}>
                <Select
                  testid="ask-from"
                  value={ask.from ?? ""}
                  onChange={(e) =>
                    setAsk(
                      guess(
                        p.kind,
                        sources.find((s) => s.name === e.target.value),
                      ),
                    )
                  }
                >
                  <option value="">{say("choose …")}</option>
                  {sources.map((s) => (
                    <option key={s.name} value={s.name}>
                      {s.name} ({s.kind})
                    </option>
                  ))}
                </Select>
              </Field>
              {source &&
                questions(p.kind, source).map((q) => (
                  <Field key={q.name} label={q.words}>
                    <Select
                      testid={`ask-${q.name}`}
                      value={ask[q.name] ?? ""}
                      onChange={(e) => setAsk({ ...ask, [q.name]: e.target.value })}
                    >
                      {q.choices.map(([v, w]) => (
                        <option key={v} value={v}>
                          {w}
                        </option>
                      ))}
                    </Select>
                  </Field>
                ))}
            </div>
          )}
          {made?.missing && <p className="text-sand">{made.missing}</p>}
          <div>
            <div className="flex items-center justify-between pb-1 text-xs text-soft">
              {say("The query")}
              {!byHand && (
                <Button
                  small
                  testid="by-hand"
                  onClick={() => {
                    setP({ ...p, title, query, options: made ? optionsOf(made.options, p) : p.options });
                    setByHand(true);
                  }}
                >
                  {say("Write it by hand")}
                </Button>
              )}
            </div>
            {byHand ? (
              <div className="rounded-md border border-line">
                <Editor
                  label={say("The panel's query")}
                  value={p.query ?? ""}
                  words={words}
                  functions={functions.data ?? []}
                  given={variables}
                  onChange={(v) => setP((x) => ({ ...x, query: v }))}
                />
              </div>
            ) : (
              <pre className="min-h-16 rounded-md border border-line bg-paper p-3 font-mono text-xs whitespace-pre-wrap">
                {query || "It is written of what you choose above."}
              </pre>
            )}
          </div>
          <div className="grid grid-cols-2 gap-3 sm:grid-cols-4">
            {kind?.options.filter(takes).map((o) => (
              <Field key={o.name} label={o.name}>
                {o.takes === "flag" ? (
                  <Select value={option(p, o.name)} onChange={(e) => setP(withOption(p, o.name, e.target.value))}>
                    <option value="">{o.default ?? ""}</option>
                    <option value="true">{say("true")}</option>
                    <option value="false">{say("false")}</option>
                  </Select>
                ) : (
                  <Input
                    testid={`option-${o.name}`}
                    title={o.doc}
                    placeholder={o.default}
                    inputMode={o.takes === "number" ? "decimal" : undefined}
                    value={option(p, o.name)}
                    onChange={(e) => setP(withOption(p, o.name, e.target.value, o.takes !== "number"))}
                  />
                )}
              </Field>
            ))}
          </div>
        </>
      )}
      {fault && <Fault>{fault}</Fault>}
      <Button
        kind="main"
        testid="panel-done"
        disabled={!good}
        onClick={() =>
          onDone(
            p.kind === "text"
              ? { ...p, title, query: undefined }
              : { ...p, title, query, words: undefined, options: made ? optionsOf(made.options, p) : p.options },
          )
        }
      >
        {part ? say("Change it") : say("Add it")}
      </Button>
    </Panel>
  );
}

/** The options that belong to a query that was made, and those that were typed. */
function optionsOf(made: Record<string, string>, p: PanelParts): PanelParts["options"] {
  let out = p;
  for (const [name, value] of Object.entries(made)) out = withOption(out, name, value, true);
  return out.options;
}

const kindWords: [string, string][] = [
  ["series", "lines over time"],
  ["bars", "bars, the largest first"],
  ["number", "one number"],
  ["table", "a table of rows"],
  ["heat", "cells of time and label"],
  ["histogram", "how numbers are spread"],
  ["states", "states over time"],
  ["map", "places on a plane"],
  ["areas", "countries of the world"],
  ["text", "words"],
];
