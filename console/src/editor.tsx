// The SQL editor: colours, completion from the catalogue, and errors under the text while one types.
import {
  autocompletion,
  acceptCompletion,
  completionKeymap,
  startCompletion,
  type Completion,
  type CompletionContext,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { bracketMatching, HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { linter, lintKeymap, type Diagnostic as Mark } from "@codemirror/lint";
import { Compartment, EditorState, Prec, type Text } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers, placeholder } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import { api, type Checked, type Diagnostic, type FunctionEntry, type Words } from "./api";

/** Where a line and a column, both from 1 and in code points, are in the text. */
function offset(doc: Text, line: number, column: number): number {
  const l = doc.line(Math.min(Math.max(line, 1), doc.lines));
  let at = l.from;
  for (const c of l.text) {
    if (--column < 1) break;
    at += c.length;
  }
  return Math.min(at, l.to);
}

const marks = (doc: Text, errors: Diagnostic[]): Mark[] =>
  errors.map((d) => {
    const from = offset(doc, d.line, d.column);
    return {
      from,
      to: Math.max(offset(doc, d.end_line, d.end_column), Math.min(from + 1, doc.length)),
      severity: "error",
      message: `${d.message}${d.hint ? `\n${d.hint}` : ""}`,
    };
  });

function language(words: Words | undefined, functions: FunctionEntry[]) {
  const keywords = new Set(words?.keywords ?? []);
  const calls = new Set(functions.map((f) => f.name.toUpperCase()));
  return StreamLanguage.define<{ comment: boolean }>({
    startState: () => ({ comment: false }),
    token(s, state) {
      if (state.comment || s.match("/*")) {
        state.comment = !s.match(/.*?\*\//);
        if (state.comment) s.skipToEnd();
        return "comment";
      }
      if (s.match(/--.*/)) return "comment";
      if (s.match(/'(?:[^']|'')*'?/)) return "string";
      if (s.match(/"(?:[^"]|"")*"?/)) return "variableName";
      if (s.match(/\d+(?:\.\d+)?(?:[eE][+-]?\d+)?/)) return "number";
      if (s.match(/:\w+/)) return "meta";
      const word = s.match(/[A-Za-z_]\w*/) as RegExpMatchArray | null;
      if (word) {
        const upper = word[0].toUpperCase();
        if (calls.has(upper) && s.peek() === "(") return "typeName";
        return keywords.has(upper) ? "keyword" : "variableName";
      }
      s.next();
      return "operator";
    },
    languageData: { commentTokens: { line: "--", block: { open: "/*", close: "*/" } } },
  });
}

const colours = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--color-river)", fontWeight: "600" },
  { tag: tags.string, color: "var(--color-clay)" },
  { tag: tags.number, color: "var(--color-sand)" },
  { tag: tags.comment, color: "var(--color-soft)", fontStyle: "italic" },
  { tag: tags.typeName, color: "var(--color-reed)" },
  { tag: tags.meta, color: "var(--color-sand)" },
]);

/** A name as a pattern: it may have characters that mean something in one. */
const plain = (name: string) => name.replace(/[\\^$.*+?()[\]{}|]/g, "\\$&");

function completer(words: Words | undefined, functions: FunctionEntry[]) {
  return (c: CompletionContext) => {
    const word = c.matchBefore(/[\w"]*$/);
    const before = c.state.doc.sliceString(0, word?.from ?? c.pos);
    if (!words || (!c.explicit && (!word || word.from === word.to) && !before.endsWith("."))) return null;
    const text = c.state.doc.toString();
    const used = words.names.filter(
      (n) => n.columns.length > 0 && new RegExp(`(?<!\\w)${plain(n.name)}(?!\\w)`, "i").test(text),
    );
    const of = /(\w+)\.$/.exec(before)?.[1];
    const columns = (names: typeof used): Completion[] =>
      names.flatMap((n) =>
        n.columns.map((k) => ({
          label: k.name,
          type: "property",
          detail: `${k.type.toLowerCase()} of ${n.name}`,
          boost: 2,
        })),
      );
    if (of) {
      // An alias stands behind the name of what it is for.
      const named = used.filter(
        (n) => n.name === of || new RegExp(`(?<!\\w)${plain(n.name)}(?!\\w)\\s+(?:as\\s+)?${of}\\b`, "i").test(text),
      );
      return { from: word?.from ?? c.pos, options: columns(named.length > 0 ? named : used), validFor: /^[\w.]*$/ };
    }
    const lower = word ? /^[a-z]/.test(word.text) : false;
    const cased = (k: string) => (lower ? k.toLowerCase() : k);
    return {
      from: word?.from ?? c.pos,
      options: [
        ...columns(used.length > 0 ? used : words.names),
        ...words.names
          .filter((n) => n.kind !== "topic" || /topic\s*'?$/i.test(before))
          .map((n) => ({ label: n.name, type: "class", detail: n.kind, boost: 1 })),
        ...functions.map((f) => ({
          label: cased(f.name.toUpperCase()),
          apply: `${cased(f.name.toUpperCase())}(`,
          type: "function",
          detail: f.signatures[0],
          info: f.gives,
        })),
        ...words.keywords.map((k) => ({ label: cased(k), type: "keyword" })),
      ],
      validFor: /^\w*$/,
    };
  };
}

const spoken = (words: Words | undefined, functions: FunctionEntry[]) => [
  language(words, functions),
  autocompletion({ override: [completer(words, functions)] }),
];

export default function Editor({
  value,
  onChange,
  onRun,
  onStop,
  onChecked,
  words,
  functions,
  label,
  given,
  minHeight = "9rem",
  whole = false,
}: {
  value: string;
  onChange: (v: string) => void;
  onRun?: () => void;
  onStop?: () => void;
  onChecked?: (c: Checked) => void;
  words: Words | undefined;
  functions: FunctionEntry[];
  label: string;
  /** Parameters that have a value when the text is run. */
  given?: string[];
  minHeight?: string;
  /** As high as its text, instead of scrolling. */
  whole?: boolean;
}) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  const known = useRef(new Compartment());
  const on = useRef({ onChange, onRun, onStop, onChecked });
  useEffect(() => {
    on.current = { onChange, onRun, onStop, onChecked };
  });
  useEffect(() => {
    const made = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: value,
        extensions: [
          lineNumbers(),
          history(),
          drawSelection(),
          highlightActiveLine(),
          bracketMatching(),
          EditorView.lineWrapping,
          placeholder("SELECT …"),
          known.current.of(spoken(words, functions)),
          syntaxHighlighting(colours),
          linter(
            async (v) => {
              const text = v.state.doc.toString();
              if (!text.trim()) return [];
              try {
                const c = await api.check(text);
                if (v.state.doc.toString() !== text) return [];
                on.current.onChecked?.(c);
                const known = (d: Diagnostic) =>
                  d.code === "no-value" && given?.some((g) => d.message.includes(`:${g} `));
                return marks(
                  v.state.doc,
                  c.errors.filter((d) => !known(d)),
                );
              } catch {
                return []; // what the service cannot say now it says when the text is run
              }
            },
            { delay: 350 },
          ),
          Prec.highest(
            keymap.of([
              {
                key: "Mod-Enter",
                run: () => {
                  on.current.onRun?.();
                  return true;
                },
              },
              { key: "Tab", run: acceptCompletion },
              { key: "Ctrl-Space", run: startCompletion },
            ]),
          ),
          keymap.of([
            {
              key: "Escape",
              run: () => {
                on.current.onStop?.();
                return false;
              },
            },
            ...completionKeymap,
            ...lintKeymap,
            ...defaultKeymap,
            ...historyKeymap,
            indentWithTab,
          ]),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) on.current.onChange(u.state.doc.toString());
          }),
          EditorView.contentAttributes.of({ "aria-label": label, "data-testid": "editor", tabindex: "0" }),
          EditorView.theme({
            "&": { minHeight, maxHeight: whole ? "none" : "28rem" },
            ".cm-scroller": { overflow: "auto", minHeight },
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
    // The first text alone: what comes later is taken over below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  useEffect(() => {
    // the colours and the completion go with the catalogue
    view.current?.dispatch({ effects: known.current.reconfigure(spoken(words, functions)) });
  }, [words, functions]);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== value)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } });
  }, [value]);
  return <div ref={box} className="bg-sheet" />;
}
