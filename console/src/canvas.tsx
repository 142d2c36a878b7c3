// The canvas: a job as a drawing that is changed by hand. It is another editor of the same text: what is drawn is written, and what is written is drawn.
import dagre from "@dagrejs/dagre";
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import {
  Background,
  Controls,
  Handle,
  MarkerType,
  Position,
  ReactFlow,
  useNodesState,
  type Connection as Drag,
  type Edge,
  type Node,
  type NodeProps,
} from "@xyflow/react";
import "@xyflow/react/dist/style.css";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { api, problemOf, type Column, type Drawing, type Drawn } from "./api";
import {
  begun,
  called,
  calledThen,
  doings,
  drawnOf,
  free,
  holds,
  named,
  shownSteps,
  withChanged,
  withoutSink,
  withoutStep,
  withRoute,
  withStep,
  type Box,
  type Doing,
} from "./drawing";
import { Button, count, Fault, Field, Input } from "./parts";
import { NewSink, SinkForm, SourceForm } from "./ends";
import { StepForm } from "./step_form";
import { say } from "./i18n";

type Shown = Box & { rows?: number; chosen: boolean };

const wide = 220;
const tall = (does: number) => 40 + 16 * does;
const tones = { source: "border-river", step: "border-line", sink: "border-sand" };
const sorts = { source: "from", step: "", sink: "to" };

function BoxView({ data }: NodeProps<Node<Shown>>) {
  return (
    <div
      data-testid={`box-${data.name}`}
      className={`rounded-lg border-2 bg-sheet px-3 py-2 text-left ${data.problem ? "border-clay" : tones[data.sort]} ${data.chosen ? "ring-2 ring-river ring-offset-1" : ""}`}
      style={{ width: wide, minHeight: tall(data.does.length) }}
    >
      {data.sort !== "source" && <Handle type="target" position={Position.Left} className="!size-2.5 !bg-river" />}
      <div className="flex items-baseline gap-1.5">
        {sorts[data.sort] && <span className="text-[11px] text-soft">{sorts[data.sort]}</span>}
        <span className="truncate text-sm font-semibold text-ink">{data.name}</span>
        {data.rows !== undefined && (
          <span className="ml-auto text-[11px] whitespace-nowrap tabular-nums text-soft">
            {say("{{0}} rows", { 0: count(data.rows) })}
          </span>
        )}
      </div>
      {data.does.map((d, i) => (
        <div key={i} className="truncate text-[11px] text-soft" title={d}>
          {d}
        </div>
      ))}
      {data.problem && (
        <div className="truncate text-[11px] text-clay" title={data.problem}>
          {data.problem}
        </div>
      )}
      {data.sort !== "sink" && <Handle type="source" position={Position.Right} className="!size-2.5 !bg-river" />}
    </div>
  );
}

const types = { box: BoxView };

type Places = Record<string, { x: number; y: number }>;
const placesKey = (job: string) => `fiume.canvas.${job}`;
const placesOf = (job: string): Places => {
  try {
    return JSON.parse(localStorage.getItem(placesKey(job)) ?? "{}") as Places;
  } catch {
    return {};
  }
};

function laidOut(boxes: Box[], lines: { from: string; to: string; label?: string }[]): Places {
  const g = new dagre.graphlib.Graph().setDefaultEdgeLabel(() => ({}));
  g.setGraph({ rankdir: "LR", nodesep: 22, ranksep: 44 });
  boxes.forEach((b) => g.setNode(b.id, { width: wide, height: tall(b.does.length + (b.problem ? 1 : 0)) }));
  lines.forEach((l) =>
    g.setEdge(l.from, l.to, l.label ? { width: 7 * l.label.length, height: 16, labelpos: "c" } : {}),
  );
  dagre.layout(g);
  return Object.fromEntries(
    boxes.map((b) => {
      const p = g.node(b.id);
      return [b.id, { x: p.x - wide / 2, y: p.y - p.height / 2 }];
    }),
  );
}

/** A text of before, with its drawing where it was drawn. */
type Was = { sql: string; drawn?: Drawn };

/** How many of the last changes can be taken back. */
const kept = 100;

export default function Canvas({
  sql,
  onSql,
  onDeclare,
}: {
  sql: string;
  onSql: (sql: string) => void;
  /** Opens the form for declarations. */
  onDeclare: () => void;
}) {
  const [drawn, setDrawn] = useState<Drawn>();
  const [fault, setFault] = useState("");
  const [stale, setStale] = useState("");
  const [past, setPast] = useState<Was[]>([]);
  const [ahead, setAhead] = useState<Was[]>([]);
  const [loose, setLoose] = useState<string[]>([]);
  const [chosen, setChosen] = useState("");
  const [looking, setLooking] = useState(false);
  const [newSink, setNewSink] = useState<string>();
  const [rows, setRows] = useState<Record<string, number>>({});
  const [moved, setMoved] = useState<Places>(() => placesOf(""));
  const [saying, setSaying] = useState("");
  const turn = useRef(0);
  const known = useRef<string>(undefined); // the text that is drawn
  const newest = useRef<Drawn>(undefined); // its drawing
  const busy = useRef<Promise<unknown>>(undefined); // a change by hand that is not written yet

  // What is typed elsewhere is drawn a moment later.
  useEffect(() => {
    if (known.current === sql) return;
    const mine = ++turn.current;
    const wait = setTimeout(
      () => {
        api.draw({ sql: sql.trim() ? `${sql.trim().replace(/;?$/, ";")}\n` : "" }).then(
          (d) => {
            if (mine !== turn.current) return;
            known.current = sql;
            newest.current = d;
            setDrawn(d);
            setStale("");
            setFault("");
          },
          (e: unknown) => mine === turn.current && setStale(problemOf(e)!.message),
        );
      },
      known.current === undefined ? 0 : 400,
    );
    return () => clearTimeout(wait);
  }, [sql]);

  const job = drawn?.drawing.name ?? "";
  const [movedOf, setMovedOf] = useState("");
  if (movedOf !== job) {
    setMovedOf(job);
    setMoved(placesOf(job));
  }

  /** Has the service write a changed drawing; whoever asks is told what was wrong. */
  const put = useCallback(
    async (next: Drawing): Promise<string> => {
      await busy.current;
      if (newest.current !== drawn || known.current !== sql) {
        // next was made of a drawing of before: what was typed or drawn since would be lost
        const words = say("The text has changed meanwhile, and is drawn anew. Do it once more.");
        setFault(words);
        return words;
      }
      const mine = ++turn.current;
      const asked = api.draw({ drawing: next });
      busy.current = asked.catch(() => undefined);
      try {
        const d = await asked;
        if (mine !== turn.current) return "";
        setPast((p) => [...p.slice(1 - kept), { sql, drawn }]);
        setAhead([]);
        known.current = d.sql;
        newest.current = d;
        setDrawn(d);
        setFault("");
        setStale("");
        onSql(d.sql);
        return "";
      } catch (e) {
        const words = problemOf(e)!.message;
        if (mine === turn.current) setFault(words);
        return words;
      }
    },
    [onSql, sql, drawn],
  );
  const go = (from: Was[], setFrom: (l: Was[]) => void, setTo: (f: (l: Was[]) => Was[]) => void) => {
    const was = from[from.length - 1];
    if (was === undefined) return;
    setFrom(from.slice(0, -1));
    setTo((l) => [...l, { sql, drawn: known.current === sql ? drawn : undefined }]);
    setFault("");
    if (was.drawn) {
      turn.current++;
      known.current = was.sql;
      newest.current = was.drawn;
      setDrawn(was.drawn);
      setStale("");
    }
    onSql(was.sql);
  };
  const undo = () => go(past, setPast, setAhead);
  const redo = () => go(ahead, setAhead, setPast);

  const { boxes, lines } = useMemo(() => (drawn ? drawnOf(drawn, loose) : { boxes: [], lines: [] }), [drawn, loose]);
  const [nodes, setNodes, onNodes] = useNodesState<Node<Shown>>([]);
  useEffect(() => {
    const auto = laidOut(boxes, lines);
    setNodes(
      boxes.map((b) => ({
        id: b.id,
        type: "box",
        position: moved[b.id] ?? auto[b.id]!,
        selected: b.id === chosen,
        data: { ...b, rows: rows[b.name], chosen: b.id === chosen },
        ariaLabel: `${b.sort} ${b.name}: ${b.does.join("; ")}${b.problem ? `; ${b.problem}` : ""}`,
      })),
    );
  }, [boxes, lines, moved, rows, chosen, setNodes]);
  const fit = useRef<() => void>(undefined);
  const closed = chosen === "";
  const all = boxes.map((b) => b.id).join("|");
  useEffect(() => {
    const wait = setTimeout(() => fit.current?.(), 60); // once they are drawn
    return () => clearTimeout(wait);
  }, [all, closed]);
  const edges: Edge[] = useMemo(
    () =>
      lines.map((l) => ({
        id: l.id,
        source: l.from,
        target: l.to,
        label: l.label,
        focusable: false,
        deletable: false,
        markerEnd: { type: MarkerType.ArrowClosed, color: `var(--color-${l.tone})` },
        labelStyle: { fill: "var(--color-ink)", fontSize: 11 },
        labelBgStyle: { fill: "var(--color-paper)" },
        style: { stroke: `var(--color-${l.tone})`, strokeDasharray: l.tone === "soft" ? undefined : "5 4" },
      })),
    [lines],
  );

  const d = drawn?.drawing;
  const box = boxes.find((b) => b.id === chosen);
  const at = d && box?.sort === "step" ? shownSteps(d).findIndex((s) => called(d, s) === box.name) : -1;
  const columnsOf = useCallback(
    (name: string): Column[] => {
      if (!drawn) return [];
      const i = shownSteps(drawn.drawing).findIndex((s) => called(drawn.drawing, s) === name);
      return (i >= 0 ? drawn.steps[i]?.columns : drawn.sources.find((s) => s.name === name)?.columns) ?? [];
    },
    [drawn],
  );
  const readable = useMemo(
    () =>
      !drawn
        ? []
        : [
            ...shownSteps(drawn.drawing).map((s, i) => ({
              name: called(drawn.drawing, s),
              kind: "step",
              columns: drawn.steps[i]?.columns ?? [],
            })),
            ...drawn.sources,
          ],
    [drawn],
  );

  const add = async (what: Doing) => {
    if (!d || !box || box.sort === "sink") return;
    const made = begun(what, box.name, columnsOf(box.name), readable);
    if ("missing" in made) {
      setFault(made.missing);
      return;
    }
    const base = named(d);
    const name = free(
      base,
      made.name,
      drawn!.sources.map((s) => s.name),
    );
    const block = { ...made.block, from: { ...made.block.from, name: calledThen(d, box.name) } };
    if ((await put(withStep(d, name, block, made.more))) === "") {
      setChosen(`step ${name}`);
      setSaying(`${name} stands behind ${box.name}`);
    }
  };
  const drop = async () => {
    if (!d || !box) return;
    if (box.sort === "sink") {
      if ((await put(withoutSink(d, box.name))) === "") setChosen("");
      return;
    }
    if (box.sort === "source") {
      setLoose(loose.filter((n) => n !== box.name));
      if (lines.some((l) => l.from === box.id)) setFault(`${box.name} is read by a step: drop that first.`);
      return;
    }
    const why = holds({ ...d, steps: shownSteps(d) }, at);
    if (why) {
      setFault(`${box.name} cannot be dropped: ${why}.`);
      return;
    }
    const reads = shownSteps(d)[at]?.reads ?? [];
    if ((await put(withoutStep({ ...d, steps: shownSteps(d) }, at))) === "") {
      setLoose([...loose, ...reads.filter((r) => drawn!.sources.some((s) => s.name === r) && !loose.includes(r))]);
      setChosen("");
    }
  };
  /** A line that was drawn from one box to another. */
  const connect = (c: Drag) => {
    const from = boxes.find((b) => b.id === c.source),
      to = boxes.find((b) => b.id === c.target);
    if (!d || !from || !to || from.id === to.id) return;
    if (to.sort === "sink") {
      void put(withRoute(d, d.job ? from.name : calledThen(d, from.name), to.name));
      return;
    }
    const steps = shownSteps(d);
    const i = steps.findIndex((s) => called(d, s) === to.name);
    const k = steps.findIndex((s) => called(d, s) === from.name);
    if (i < 0) return;
    if (k > i) {
      setFault(`${to.name} cannot read ${from.name}, which stands behind it.`);
      return;
    }
    const [first, ...more] = steps[i]!.blocks;
    void put(
      withChanged({ ...d, steps }, i, {
        blocks: [
          { ...first!, from: { ...first!.from, name: from.name, query: undefined, unnest: undefined } },
          ...more,
        ],
      }),
    );
  };
  const arrange = () => {
    localStorage.removeItem(placesKey(job));
    setMoved({});
  };

  const pasted = async (text: string) => {
    if (!d) return;
    const m = /^\s*("?[\w ]+"?)\s+AS\s*\(([\s\S]*)\)\s*,?\s*$/i.exec(text);
    const query = m ? m[2]! : text;
    if (!/^\s*SELECT\b/i.test(query)) return;
    const base = named(d);
    const name = free(
      base,
      (m?.[1] ?? "pasted").replaceAll('"', ""),
      drawn!.sources.map((s) => s.name),
    );
    if (
      (await put({
        ...base,
        steps: [...base.steps, { name, query: query.trim().replace(/;\s*$/, ""), blocks: [] }],
      })) === ""
    )
      setChosen(`step ${name}`);
  };
  const inForm = (e: { target: EventTarget | null }) =>
    e.target instanceof HTMLElement && e.target.closest("input, textarea, select, .cm-editor") !== null;

  const empty = drawn && boxes.length === 0;
  return (
    <section
      className="overflow-hidden rounded-lg border border-line bg-sheet"
      data-testid="canvas"
      aria-label={say("The job as a drawing")}
      onKeyDown={(e) => {
        if (inForm(e)) return;
        if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z") {
          e.preventDefault();
          if (e.shiftKey) redo();
          else undo();
        } else if (e.key === "Delete" && !looking) {
          e.preventDefault();
          void drop();
        }
      }}
      onCopy={(e) => {
        if (inForm(e) || !d || at < 0 || document.getSelection()?.toString()) return;
        const s = shownSteps(d)[at]!;
        e.clipboardData.setData("text/plain", `${called(d, s)} AS (\n${s.query}\n)`);
        e.preventDefault();
        setSaying(`${called(d, s)} is copied`);
      }}
      onPaste={(e) => {
        if (inForm(e) || looking) return;
        void pasted(e.clipboardData.getData("text/plain"));
      }}
    >
      <div className="flex flex-wrap items-center gap-2 border-b border-line px-3 py-2">
        {!looking && (
          <>
            <Menu>
              <MenuButton
                data-testid="add-source"
                className="cursor-pointer rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper"
              >
                {say("Read …")}
              </MenuButton>
              <MenuItems
                anchor="bottom start"
                className="z-30 mt-1 max-h-96 w-72 rounded-md border border-line bg-sheet p-1 shadow-lg focus:outline-none"
              >
                {(drawn?.sources ?? []).map((s) => (
                  <MenuItem key={s.name}>
                    <button
                      type="button"
                      onClick={() => {
                        if (!loose.includes(s.name)) setLoose([...loose, s.name]);
                        setChosen(`source ${s.name}`);
                      }}
                      className="block w-full cursor-pointer rounded px-3 py-1.5 text-left data-[focus]:bg-river-pale"
                    >
                      <span className="font-medium">{s.name}</span> <span className="text-xs text-soft">{s.kind}</span>
                    </button>
                  </MenuItem>
                ))}
                <MenuItem>
                  <button
                    type="button"
                    onClick={onDeclare}
                    className="block w-full cursor-pointer rounded px-3 py-1.5 text-left text-river data-[focus]:bg-river-pale"
                  >
                    {say("A topic, a file, a connection, a generator …")}
                  </button>
                </MenuItem>
              </MenuItems>
            </Menu>
            <Menu>
              <MenuButton
                data-testid="add-step"
                disabled={!box || box.sort === "sink"}
                className="cursor-pointer rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper disabled:cursor-default disabled:opacity-45"
              >
                {say("Then …")}
              </MenuButton>
              <MenuItems
                anchor="bottom start"
                className="z-30 mt-1 max-h-[28rem] w-80 rounded-md border border-line bg-sheet p-1 shadow-lg focus:outline-none"
              >
                {doings.map((x) => (
                  <MenuItem key={x.id}>
                    <button
                      type="button"
                      data-testid={`do-${x.id}`}
                      onClick={() => void add(x.id)}
                      className="block w-full cursor-pointer rounded px-3 py-1.5 text-left data-[focus]:bg-river-pale"
                    >
                      <span className="font-medium">{x.words}</span>
                      <span className="block text-xs text-soft">{x.about}</span>
                    </button>
                  </MenuItem>
                ))}
              </MenuItems>
            </Menu>
            <Button
              testid="send-to"
              disabled={!box || box.sort === "sink" || (box.sort === "source" && !d?.job)}
              onClick={() => setNewSink(box!.name)}
            >
              {say("Send to …")}
            </Button>
            <Button testid="drop-box" disabled={!box} onClick={() => void drop()}>
              {say("Drop")}
            </Button>
            <Button testid="undo" disabled={past.length === 0} onClick={undo}>
              {say("Undo")}
            </Button>
            <Button testid="redo" disabled={ahead.length === 0} onClick={redo}>
              {say("Redo")}
            </Button>
          </>
        )}
        <span className="ml-auto flex items-center gap-2">
          {d?.job && (
            <JobName
              key={d.name}
              name={d.name ?? ""}
              disabled={looking}
              onName={(name) => {
                const last = d.steps[d.steps.length - 1];
                const short = last !== undefined && last.name === "";
                void put({
                  ...d,
                  name,
                  routes: d.routes.map((r) => (short && r.step === d.name ? { ...r, step: name } : r)),
                });
              }}
            />
          )}
          <Button testid="arrange" disabled={Object.keys(moved).length === 0} onClick={arrange}>
            {say("Arrange")}
          </Button>
          <Button testid="only-look" onClick={() => setLooking(!looking)}>
            {looking ? say("Change it") : say("Only look")}
          </Button>
        </span>
      </div>
      <p aria-live="polite" className="sr-only">
        {saying}
      </p>
      {(fault || stale) && (
        <div className="p-3">
          <Fault>{fault || `As it stands in the text it cannot be drawn: ${stale}`}</Fault>
        </div>
      )}
      <div className="flex flex-col lg:flex-row">
        <div className="relative w-full min-w-0 shrink-0 lg:w-auto lg:flex-1 lg:shrink" style={{ height: 460 }}>
          {empty && (
            <div className="absolute inset-0 z-10 overflow-y-auto p-6" data-testid="canvas-empty">
              <h2 className="mb-1 text-base font-semibold">{say("Where do the rows come from?")}</h2>
              <p className="mb-3 max-w-prose text-soft">
                {say(
                  "Choose what the job reads. Its rows are shown at once; then say step by step what becomes of them.",
                )}
              </p>
              <div className="flex flex-wrap gap-2">
                {drawn.sources.map((s) => (
                  <button
                    key={s.name}
                    type="button"
                    data-testid={`read-${s.name}`}
                    onClick={() => {
                      setLoose([...loose, s.name]);
                      setChosen(`source ${s.name}`);
                    }}
                    className="cursor-pointer rounded-md border border-line bg-paper px-3 py-2 text-left hover:border-river"
                  >
                    <span className="block font-medium">{s.name}</span>
                    <span className="block text-xs text-soft">
                      {say("{{0}}, {{1}} columns", { 0: s.kind, 1: s.columns.length })}
                    </span>
                  </button>
                ))}
                <button
                  type="button"
                  data-testid="read-other"
                  onClick={onDeclare}
                  className="cursor-pointer rounded-md border border-dashed border-line px-3 py-2 text-left hover:border-river"
                >
                  <span className="block font-medium">{say("Something else …")}</span>
                  <span className="block text-xs text-soft">{say("a topic, a file, a connection, a generator")}</span>
                </button>
              </div>
            </div>
          )}
          <ReactFlow
            nodes={nodes}
            edges={edges}
            onNodesChange={(changes) => {
              onNodes(changes);
              const now = changes.find((c) => c.type === "select" && c.selected);
              if (now?.type === "select") setChosen(now.id); // by a click, or by Enter
            }}
            onNodeDragStop={(_, n) => {
              const next = { ...moved, [n.id]: n.position };
              setMoved(next);
              localStorage.setItem(placesKey(job), JSON.stringify(next));
            }}
            onConnect={connect}
            nodeTypes={types}
            fitView
            fitViewOptions={{ padding: 0.06, maxZoom: 1 }}
            onInit={(flow) => {
              fit.current = () => void flow.fitView({ padding: 0.06, maxZoom: 1 });
            }}
            minZoom={0.15}
            nodesDraggable={!looking}
            nodesConnectable={!looking}
            deleteKeyCode={null}
            proOptions={{ hideAttribution: true }}
          >
            <Background color="var(--color-line)" gap={22} />
            <Controls showInteractive={false} />
          </ReactFlow>
        </div>
        {box && d && (
          <div
            className="max-h-[46rem] w-full overflow-y-auto border-t border-line p-4 lg:h-[460px] lg:w-[25rem] lg:border-t-0 lg:border-l"
            data-testid="box-form"
          >
            {box.sort === "step" && at >= 0 ? (
              <StepForm
                key={box.id}
                drawn={drawn}
                at={at}
                readable={readable}
                locked={looking}
                onPut={async (next, name) => {
                  const wrong = await put(next);
                  if (!wrong && name && name !== box.name) setChosen(`step ${name}`);
                  return wrong;
                }}
                onRows={setRows}
                onSink={() => setNewSink(box.name)}
              />
            ) : box.sort === "sink" ? (
              <SinkForm
                key={box.id}
                name={box.name}
                sql={drawn.drawing.before ?? ""}
                drawn={drawn}
                columnsOf={columnsOf}
              />
            ) : (
              <SourceForm key={box.id} name={box.name} columns={columnsOf(box.name)} before={d.before ?? ""} />
            )}
          </div>
        )}
      </div>
      {newSink !== undefined && d && (
        <NewSink
          step={newSink}
          drawn={drawn}
          columns={columnsOf(newSink)}
          onClose={() => setNewSink(undefined)}
          onPut={async (sink, where, declared, jobName) => {
            const step = d.job ? newSink : calledThen(d, newSink);
            const next = withRoute(d, step, sink, where, jobName);
            const wrong = await put({ ...next, before: declared ? `${next.before ?? ""}${declared}` : next.before });
            if (!wrong) setNewSink(undefined);
            return wrong;
          }}
        />
      )}
    </section>
  );
}

function JobName({ name, disabled, onName }: { name: string; disabled: boolean; onName: (n: string) => void }) {
  const [now, setNow] = useState(name);
  return (
    <span className="flex items-center gap-2">
      <Field label="">
        <Input
          testid="job-name"
          aria-label={say("The job's name")}
          className="w-44"
          disabled={disabled}
          value={now}
          onChange={(e) => setNow(e.target.value)}
          onBlur={() => now.trim() && now !== name && onName(now.trim())}
          onKeyDown={(e) => e.key === "Enter" && now.trim() && now !== name && onName(now.trim())}
        />
      </Field>
    </span>
  );
}
