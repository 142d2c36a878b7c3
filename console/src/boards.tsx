// Boards: pages of panels over queries, which show rows as they stand and change in place.
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, followBoard, type Board, type BoardVariable, type Problem, type Update } from "./api";
import { PanelBox } from "./panels";
import { Button, count, Empty, Fault, Field, Input, Panel, Rows, Select, Sheet } from "./parts";
import { History, none, take, type Standing } from "./standing";
import { clock } from "./zone";
import { may, ownSpace, useSession } from "./session";
import { say } from "./i18n";

const ShareBoard = lazy(() => import("./share").then((m) => ({ default: m.ShareBoard })));

const Arrange = lazy(() => import("./arrange"));

/** The page with all boards. */
export function BoardsPage() {
  const session = useSession();
  const boards = useQuery({ queryKey: ["boards"], queryFn: api.boards, refetchInterval: 10_000 });
  const [params, setParams] = useSearchParams();
  const making = params.has("make");
  const setMaking = (on: boolean) => setParams(on ? { make: "" } : {});
  return (
    <div className="space-y-4">
      <NewBoard open={making} taken={boards.data?.map((b) => b.name) ?? []} onClose={() => setMaking(false)} />
      <div className="flex items-center gap-3">
        <h1 className="text-xl font-semibold">{say("Boards")}</h1>
        <span className="ml-auto">
          {may(session, "develop") && (
            <Button testid="new-board" kind="main" onClick={() => setMaking(true)}>
              {say("Make a board")}
            </Button>
          )}
        </span>
      </div>
      {boards.error && <Fault>{boards.error.message}</Fault>}
      <Sheet>
        {!boards.data ? (
          <Empty>{say("Loading …")}</Empty>
        ) : boards.data.length === 0 ? (
          <Empty>
            {say("There are no boards yet. A board shows numbers, lines, bars and tables of queries as they change.")}
          </Empty>
        ) : (
          <Rows
            testid="boards"
            of={boards.data}
            id={(b) => b.name}
            columns={[
              {
                head: say("Board"),
                of: (b) => (
                  <Link className="font-medium text-river hover:underline" to={`/boards/${encodeURIComponent(b.name)}`}>
                    {b.title}
                  </Link>
                ),
              },
              { head: say("Name"), mono: true, of: (b) => b.name },
              { head: say("Panels"), right: true, of: (b) => count(b.panels.length) },
              {
                head: say("Shows"),
                of: (b) => <span className="text-soft">{b.panels.map((p) => p.title).join(", ")}</span>,
              },
            ]}
          />
        )}
      </Sheet>
    </div>
  );
}

/** Asks for the name of a new board. */
function NewBoard({ open, taken, onClose }: { open: boolean; taken: string[]; onClose: () => void }) {
  const [title, setTitle] = useState("");
  const go = useNavigate();
  const space = ownSpace(useSession());
  const plain = title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "_")
    .replace(/^_+|_+$/g, "")
    .replace(/^(\d)/, "b_$1")
    .slice(0, 60);
  const name = plain && space + plain;
  const problem = taken.includes(name) ? `There is a board ${name} already.` : "";
  const make = () => name && !problem && go(`/boards/${name}?change=new&title=${encodeURIComponent(title.trim())}`);
  return (
    <Panel open={open} title={say("Make a board")} onClose={onClose}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          make();
        }}
      >
        <Field label={say("What stands over it")}>
          <Input
            testid="board-title"
            autoFocus
            value={title}
            onChange={(e) => setTitle(e.target.value)}
            placeholder={say("Who crosses where")}
          />
        </Field>
        <p className="text-soft">
          {say("{{0}} Panels come next.", {
            0: problem || (name ? `It is called ${name}.` : "Its name is made of that."),
          })}
        </p>
        <Button kind="main" testid="begin-board" disabled={!name || !!problem} onClick={make}>
          {say("Go on")}
        </Button>
      </form>
    </Panel>
  );
}

/** How often a board is drawn again, milliseconds. */
const drawn = 250;

/** A board, as it changes. */
export function BoardPage() {
  const { name = "" } = useParams();
  const [params] = useSearchParams();
  if (params.has("change"))
    return (
      <Suspense fallback={<p className="text-soft">{say("Loading …")}</p>}>
        <Arrange
          key={name}
          name={name}
          fresh={params.get("change") === "new" ? (params.get("title") ?? "") : undefined}
        />
      </Suspense>
    );
  return <Shown key={name} name={name} />;
}

/** What a board shows now, as long as it is followed. */
export function useBoard(name: string, query: string, held: boolean) {
  const [board, setBoard] = useState<Board>();
  const [problem, setProblem] = useState<Problem>();
  const [standing, setStanding] = useState<Standing[]>([]);
  const [choices, setChoices] = useState<Record<string, Standing>>({});
  const history = useRef<History>(undefined);
  const holding = useRef(held);
  const touched = useRef(false);
  useEffect(() => {
    if (holding.current && !held) touched.current = true;
    holding.current = held;
  }, [held]);
  useEffect(() => {
    let now: Standing[] = [];
    let panels: Board["panels"] = [];
    let of: Record<string, Standing> = {};
    const leave = followBoard(
      name,
      query,
      {
        board: (b) => {
          // A panel that was there before shows what it did until its rows are told anew.
          const before = new Map(panels.map((p, i) => [`${p.kind} ${p.sql}`, now[i]!]));
          now = b.panels.map((p) => before.get(`${p.kind} ${p.sql}`) ?? none);
          panels = b.panels;
          of = {};
          history.current = new History(b.panels.length);
          setBoard(b);
          setProblem(undefined);
          touched.current = true;
        },
        update: (u: Update) => {
          if (u.variable) of = { ...of, [u.variable]: take(of[u.variable] ?? none, u) };
          else {
            history.current?.add(u, Date.now());
            now[u.panel] = take(now[u.panel] ?? none, u);
          }
          touched.current = true;
        },
      },
      setProblem,
    );
    const t = setInterval(() => {
      if (touched.current && !holding.current) {
        touched.current = false;
        setStanding([...now]);
        setChoices(of);
      }
    }, drawn);
    return () => {
      clearInterval(t);
      leave();
    };
  }, [name, query]);
  return { board, problem, standing, choices, history };
}

function Shown({ name }: { name: string }) {
  const [params, setParams] = useSearchParams();
  const session = useSession();
  const [sharing, setSharing] = useState(false);
  const [paused, setPaused] = useState(false);
  const [back, setBack] = useState<number>();
  const query = new URLSearchParams([...params].filter(([k]) => ["choose", "since", "from", "to"].includes(k)));
  const { board, problem, standing, choices, history } = useBoard(name, query.toString(), paused);
  const page = useRef<HTMLDivElement>(null);
  const set = (change: (p: URLSearchParams) => void) =>
    setParams(
      (p) => {
        const n = new URLSearchParams(p);
        change(n);
        return n;
      },
      { replace: true },
    );
  const since = stretches.find((s) => s.since === params.get("since"));
  const [earlier, setEarlier] = useState<Standing[]>();
  const shown = (paused && earlier) || standing;
  const [from, to] = paused ? (history.current?.span ?? [0, 0]) : [0, 0];
  const goBack = (t: number) => {
    setBack(t);
    setEarlier(history.current?.at(t));
  };
  return (
    <div className="space-y-4">
      <div className="flex flex-wrap items-center gap-3">
        {!session?.board && (
          <>
            <Link to="/boards" className="text-soft hover:text-ink">
              {say("Boards")}
            </Link>
            <span className="text-line">/</span>
          </>
        )}
        <h1 className="text-xl font-semibold">{board?.title ?? name}</h1>
        <span className="ml-auto flex flex-wrap gap-2">
          <Button
            testid="pause"
            onClick={() => {
              setPaused(!paused);
              setBack(undefined);
              setEarlier(undefined);
            }}
          >
            {paused ? say("Go on") : say("Pause")}
          </Button>
          <Button testid="whole-screen" onClick={() => void page.current?.requestFullscreen()}>
            {say("Whole screen")}
          </Button>
          {!session?.board && session?.needed && may(session, "develop") && (
            <Button testid="share-board" disabled={!board} onClick={() => setSharing(true)}>
              {say("Share …")}
            </Button>
          )}
          {may(session, "develop") && (
            <Button testid="change-board" disabled={!board} onClick={() => setParams({ change: "" })}>
              {say("Change")}
            </Button>
          )}
        </span>
      </div>
      {board && (
        <div className="flex flex-wrap items-end gap-3">
          <TimeChoice params={params} set={set} />
          {board.variables.map((v) => (
            <Choice
              key={v.name}
              of={v}
              rows={choices[v.name]}
              value={chosen(params, v)}
              onChange={(x) =>
                set((p) => {
                  const rest = p.getAll("choose").filter((c) => !c.startsWith(`${v.name}=`));
                  p.delete("choose");
                  rest.forEach((c) => p.append("choose", c));
                  if (x !== v.default) p.append("choose", `${v.name}=${x}`);
                })
              }
            />
          ))}
          {paused && (
            <label className="flex min-w-48 flex-1 flex-col gap-1 text-xs text-sand">
              {back === undefined
                ? say("paused; rows are still taken. Go back with the slider")
                : say("as it was at {{0}}", { 0: clock(back * 1000) })}
              <input
                type="range"
                data-testid="back"
                className="h-9 accent-sand"
                min={from}
                max={to}
                step={100}
                value={back ?? to}
                disabled={to <= from}
                onChange={(e) => goBack(Number(e.target.value))}
              />
            </label>
          )}
        </div>
      )}
      {sharing && (
        <Suspense fallback={null}>
          <ShareBoard board={name} onClose={() => setSharing(false)} />
        </Suspense>
      )}
      {problem && <Fault>{problem.message}</Fault>}
      {!board && !problem && <p className="text-soft">{say("Loading …")}</p>}
      {board && (
        <div ref={page} data-testid="board" className={boardGrid}>
          {board.panels.map((p, i) => (
            <PanelBox key={i} panel={p} now={shown[i] ?? none} seconds={since?.seconds ?? 0} />
          ))}
        </div>
      )}
    </div>
  );
}

export const boardGrid =
  "grid [grid-auto-flow:dense] auto-rows-[5.5rem] grid-cols-1 gap-3 overflow-y-auto bg-paper md:grid-cols-12 [&:fullscreen]:p-4";

const stretches = [
  { since: "5 MINUTES", words: say("the last 5 minutes"), seconds: 300 },
  { since: "15 MINUTES", words: say("the last 15 minutes"), seconds: 900 },
  { since: "1 HOUR", words: say("the last hour"), seconds: 3600 },
  { since: "6 HOURS", words: say("the last 6 hours"), seconds: 6 * 3600 },
  { since: "24 HOURS", words: say("the last 24 hours"), seconds: 24 * 3600 },
];

/** Chooses the time that a board shows: as it says, the last of it, or a stretch. Times are typed in UTC. */
function TimeChoice({ params, set }: { params: URLSearchParams; set: (change: (p: URLSearchParams) => void) => void }) {
  const fixed = params.has("from");
  const [from, setFrom] = useState(utc(params.get("from")));
  const [to, setTo] = useState(utc(params.get("to")));
  const [typing, setTyping] = useState(fixed);
  const wrong = from && to && from >= to ? "It ends before it begins." : "";
  const how = typing ? "stretch" : (params.get("since") ?? "");
  return (
    <>
      <Field label={say("Shows")}>
        <Select
          testid="time"
          value={how}
          onChange={(e) => {
            const x = e.target.value;
            setTyping(x === "stretch");
            set((p) => {
              for (const k of ["since", "from", "to"]) p.delete(k);
              if (x && x !== "stretch") p.set("since", x);
            });
          }}
        >
          <option value="">{say("as the board says")}</option>
          {stretches.map((s) => (
            <option key={s.since} value={s.since}>
              {s.words}
            </option>
          ))}
          <option value="stretch">{say("a stretch of time …")}</option>
        </Select>
      </Field>
      {typing && (
        <form
          className="flex flex-wrap items-end gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            if (from && to && !wrong)
              set((p) => {
                p.delete("since");
                p.set("from", new Date(`${from}Z`).toISOString());
                p.set("to", new Date(`${to}Z`).toISOString());
              });
          }}
        >
          <Field label={say("From (UTC)")}>
            <Input
              testid="from"
              type="datetime-local"
              step={1}
              value={from}
              onChange={(e) => setFrom(e.target.value)}
            />
          </Field>
          <Field label={say("To (UTC)")}>
            <Input testid="to" type="datetime-local" step={1} value={to} onChange={(e) => setTo(e.target.value)} />
          </Field>
          <button
            type="submit"
            data-testid="show-stretch"
            disabled={!from || !to || !!wrong}
            className="h-9 cursor-pointer rounded-md border border-line bg-sheet px-3 text-sm font-medium hover:bg-paper disabled:cursor-default disabled:opacity-45"
          >
            {say("Show it")}
          </button>
          {wrong && <span className="pb-2 text-clay">{wrong}</span>}
        </form>
      )}
    </>
  );
}

/** An instant as an input takes it, of what stands in the address. */
function utc(text: string | null): string {
  const ms = text ? Date.parse(text) : NaN;
  return Number.isNaN(ms) ? "" : new Date(ms).toISOString().slice(0, 19);
}

function chosen(params: URLSearchParams, v: BoardVariable): string {
  const c = params.getAll("choose").find((x) => x.startsWith(`${v.name}=`));
  return c === undefined ? v.default : c.slice(v.name.length + 1);
}

/** Chooses a value of a variable, of those that its query gives. */
function Choice({
  of,
  rows,
  value,
  onChange,
}: {
  of: BoardVariable;
  rows?: Standing;
  value: string;
  onChange: (x: string) => void;
}) {
  const found = new Map<string, string>();
  for (const r of rows?.rows.values() ?? []) {
    const v = r[of.column];
    if (v !== null && v !== undefined) found.set(String(v), String((of.words && r[of.words]) || v));
  }
  if (value !== "" && !found.has(value)) found.set(value, value);
  const list = [...found].sort(([, a], [, b]) => a.localeCompare(b, "en", { numeric: true }));
  return (
    <Field label={of.title}>
      <Select testid={`choose-${of.name}`} value={value} onChange={(e) => onChange(e.target.value)}>
        {of.all && <option value="">{of.all}</option>}
        {list.map(([v, words]) => (
          <option key={v} value={v}>
            {words}
          </option>
        ))}
      </Select>
    </Field>
  );
}
