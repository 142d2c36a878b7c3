// A search over everything that has a page: with Ctrl+K, or the button in the head of the page.
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api } from "./api";
import { find, type Thing } from "./find";
import { say } from "./i18n";

const at = (path: string, name: string) => `${path}/${encodeURIComponent(name)}`;

/** Everything that can be found; asked for when the search is opened. */
async function everything(): Promise<Thing[]> {
  const none = () => [];
  const [jobs, boards, topics, definitions, functions] = await Promise.all([
    api.jobs().catch(none),
    api.boards().catch(none),
    api.topics().catch(none),
    api.definitions().catch(none),
    api.functions().catch(none),
  ]);
  return [
    ...pages,
    ...jobs.map((j) => ({ kind: "job", name: j.name, about: j.state, to: at("/jobs", j.name) })),
    ...boards.map((b) => ({ kind: "board", name: b.name, about: b.title, to: at("/boards", b.name) })),
    ...topics.map((t) => ({ kind: "topic", name: t.name, about: "", to: at("/topics", t.name) })),
    ...definitions
      .filter((d) => d.kind !== "board")
      .map((d) => ({ kind: d.kind, name: d.name, about: d.sql.replace(/\s+/g, " "), to: at("/declared", d.name) })),
    ...functions.map((f) => ({ kind: "function", name: f.name, about: f.gives, to: "/work" })),
  ];
}

const pages: Thing[] = [
  { kind: "page", name: "Jobs", about: say("what runs"), to: "/" },
  { kind: "page", name: "Boards", about: say("what is looked at"), to: "/boards" },
  { kind: "page", name: "Make a board", about: say("panels by hand"), to: "/boards?make" },
  { kind: "page", name: "Topics", about: say("messages as they are"), to: "/topics" },
  {
    kind: "page",
    name: "Declared",
    about: say("streams, tables, sinks, endpoints, views, functions"),
    to: "/declared",
  },
  { kind: "page", name: "Write & try", about: say("SQL on live rows and samples"), to: "/work" },
  { kind: "page", name: "Activity", about: say("who did what"), to: "/activity" },
];

export function Search() {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const go = useNavigate();
  const all = useQuery({ queryKey: ["everything"], queryFn: everything, enabled: open, refetchInterval: false });
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setText("");
        setOpen((o) => !o);
      }
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, []);
  const found = find(all.data ?? pages, text).slice(0, 40);
  const close = () => setOpen(false);
  return (
    <>
      <button
        type="button"
        data-testid="search"
        onClick={() => {
          setText("");
          setOpen(true);
        }}
        className="cursor-pointer rounded-md border border-line bg-sheet px-2.5 py-1 text-xs text-soft hover:text-ink"
      >
        {say("Search")} <kbd className="ml-1 rounded border border-line px-1 font-sans">{say("Ctrl K")}</kbd>
      </button>
      <Dialog open={open} onClose={close} className="relative z-40" aria-label={say("Search over everything")}>
        <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
        <div className="fixed inset-0 flex items-start justify-center overflow-y-auto p-4 sm:p-16">
          <DialogPanel className="w-full max-w-2xl rounded-lg border border-line bg-sheet shadow-lg">
            <Combobox
              immediate
              onChange={(t: Thing | null) => {
                if (!t) return;
                close();
                void go(t.to);
              }}
            >
              <ComboboxInput
                autoFocus
                data-testid="search-text"
                aria-label={say("Search over everything")}
                placeholder={say("A job, board, topic, stream, table, sink, function or page")}
                className="w-full rounded-t-lg border-b border-line bg-sheet px-4 py-3 text-base text-ink focus:outline-none"
                value={text}
                onChange={(e) => setText(e.target.value)}
              />
              <ComboboxOptions static modal={false} className="max-h-96 overflow-y-auto p-1" data-testid="found">
                {found.map((t) => (
                  <ComboboxOption
                    key={`${t.kind} ${t.name}`}
                    value={t}
                    className="flex cursor-pointer items-baseline gap-3 rounded px-3 py-1.5 data-[focus]:bg-river-pale"
                  >
                    <span className="w-16 shrink-0 text-xs text-soft">{t.kind}</span>
                    <span className="shrink-0 font-medium">{t.name}</span>
                    <span className="min-w-0 truncate text-xs text-soft">{t.about}</span>
                  </ComboboxOption>
                ))}
              </ComboboxOptions>
              {found.length === 0 && (
                <p className="px-4 py-6 text-center text-soft">{say("Nothing is called like that.")}</p>
              )}
            </Combobox>
          </DialogPanel>
        </div>
      </Dialog>
    </>
  );
}
