// The steps of a query or job as a picture: what flows where, and, of a job that runs, how much.
import dagre from "@dagrejs/dagre";
import {
  Background,
  Controls,
  Handle,
  MarkerType,
  Position,
  ReactFlow,
  type Edge,
  type Node,
  type NodeProps,
} from "@xyflow/react";
import "@xyflow/react/dist/style.css";
import { useMemo } from "react";
import type { Explanation, Step } from "./api";
import { bytes, count } from "./parts";
import { perSecond } from "./rate";
import { instant } from "./zone";
import { say } from "./i18n";

type Box = {
  name: string;
  tone: string;
  does: { kind: string; detail: string }[];
  lines: string[];
  fill?: number;
  fault?: string;
};

const tones: Record<string, string> = { scan: "border-river", output: "border-sand" };
const keeping = ["window", "join", "as of", "lookup", "unique", "over", "table"];

const wide = 236;
const tall = (does: number) => 66 + 15 * does;

function StepBox({ data }: NodeProps<Node<Box>>) {
  return (
    <div
      className={`rounded-lg border-2 bg-sheet px-3 py-2 text-left ${data.fault ? "border-clay" : data.tone}`}
      style={{ width: wide, minHeight: tall(data.does.length) }}
    >
      <Handle type="target" position={Position.Left} className="!bg-line" isConnectable={false} />
      <div className="truncate text-sm font-semibold text-ink">{data.name}</div>
      {data.does.map((d, i) => (
        <div key={i} className="truncate text-[11px] text-soft" title={`${d.kind}: ${d.detail}`}>
          <span className="text-ink">{d.kind}</span> {d.detail}
        </div>
      ))}
      {data.lines.map((l, i) => (
        <div key={i} className="truncate text-[11px] tabular-nums text-ink">
          {l}
        </div>
      ))}
      {data.fault && <div className="text-[11px] text-clay">{data.fault}</div>}
      {data.fill !== undefined && (
        <div
          className="mt-1 h-1 overflow-hidden rounded-full bg-line"
          title={say("queue {{0}} % full", { 0: Math.round(data.fill * 100) })}
        >
          <div
            className={data.fill > 0.9 ? "h-full bg-clay" : "h-full bg-river"}
            style={{ width: `${Math.max(2, data.fill * 100)}%` }}
          />
        </div>
      )}
      <Handle type="source" position={Position.Right} className="!bg-line" isConnectable={false} />
    </div>
  );
}

const types = { step: StepBox };

/** Places boxes from left to right. */
function laidOut(nodes: Node<Box>[], edges: Edge[]): Node<Box>[] {
  const g = new dagre.graphlib.Graph().setDefaultEdgeLabel(() => ({}));
  g.setGraph({ rankdir: "LR", nodesep: 18, ranksep: 46 });
  nodes.forEach((n) => g.setNode(n.id, { width: wide, height: tall(n.data.does.length) }));
  edges.forEach((e) => g.setEdge(e.source, e.target));
  dagre.layout(g);
  return nodes.map((n) => {
    const p = g.node(n.id);
    return { ...n, position: { x: p.x - wide / 2, y: p.y - tall(n.data.does.length) / 2 } };
  });
}

/** Operators that only hand rows on are left out of the picture. */
const passing = ["side", "settle"];

type Drawn = { id: number; ops: Explanation["steps"] };
type Arrow = { from: number; to: number; dashed: boolean; tone: string };

/** What is drawn: the operators of a step that stand in a row are one box. */
function drawing(plan: Explanation): { boxes: Drawn[]; arrows: Arrow[] } {
  const byId = new Map(plan.steps.map((s) => [s.id, s]));
  const sources = (id: number): number[] => {
    const s = byId.get(id);
    return s && passing.includes(s.kind) ? s.inputs.flatMap(sources) : [id];
  };
  const inputs = new Map(plan.steps.map((s) => [s.id, [...new Set(s.inputs.flatMap(sources))]]));
  const uses = new Map<number, number>();
  for (const s of plan.steps)
    if (!passing.includes(s.kind)) for (const i of inputs.get(s.id)!) uses.set(i, (uses.get(i) ?? 0) + 1);
  const box = new Map<number, Drawn>();
  const boxes: Drawn[] = [];
  for (const s of plan.steps) {
    if (passing.includes(s.kind)) continue;
    const [one, ...more] = inputs.get(s.id)!;
    const before = one === undefined ? undefined : byId.get(one);
    const into =
      before && more.length === 0 && before.step === s.step && uses.get(before.id) === 1
        ? box.get(before.id)
        : undefined;
    if (into) {
      into.ops.push(s);
      box.set(s.id, into);
    } else {
      const made = { id: s.id, ops: [s] };
      boxes.push(made);
      box.set(s.id, made);
    }
  }
  const arrows: Arrow[] = [];
  const arrow = (from: number, to: number, dashed: boolean, tone: string) => {
    const a = box.get(from)?.id,
      b = box.get(to)?.id;
    if (
      a !== undefined &&
      b !== undefined &&
      a !== b &&
      !arrows.some((x) => x.from === a && x.to === b && x.dashed === dashed)
    )
      arrows.push({ from: a, to: b, dashed, tone });
  };
  for (const s of plan.steps) {
    if (passing.includes(s.kind)) {
      for (const [names, tone] of [
        [s.late_to, "sand"],
        [s.rejected_to, "clay"],
      ] as const)
        for (const n of names ?? [])
          for (const from of sources(s.id))
            arrow(from, plan.steps.find((x) => x.kind === "output" && x.step === n)?.id ?? -1, true, tone);
      continue;
    }
    for (const from of inputs.get(s.id)!) arrow(from, s.id, false, "soft");
    if (s.looks !== undefined) arrow(s.looks, s.id, true, "soft");
    for (const [names, tone] of [
      [s.late_to, "sand"],
      [s.rejected_to, "clay"],
    ] as const)
      for (const n of names ?? [])
        arrow(s.id, plan.steps.find((x) => x.kind === "output" && x.step === n)?.id ?? -1, true, tone);
  }
  return { boxes, arrows };
}

export default function Graph({
  plan,
  steps,
  rates,
  height = 380,
}: {
  plan: Explanation;
  steps?: Step[];
  rates?: Record<string, number>;
  height?: number;
}) {
  const { edges, placed } = useMemo(() => {
    const { boxes, arrows } = drawing(plan);
    const edges: Edge[] = arrows.map((a) => ({
      id: `${a.from}-${a.to}-${a.dashed}`,
      source: String(a.from),
      target: String(a.to),
      markerEnd: { type: MarkerType.ArrowClosed, color: `var(--color-${a.tone})` },
      style: { stroke: `var(--color-${a.tone})`, strokeDasharray: a.dashed ? "5 4" : undefined },
    }));
    const nodes: Node<Box & { ids: number[] }>[] = boxes.map((b) => ({
      id: String(b.id),
      type: "step",
      position: { x: 0, y: 0 },
      data: {
        name: b.ops[0]!.step,
        ids: b.ops.map((o) => o.id),
        tone: tones[b.ops[0]!.kind] ?? (b.ops.some((o) => keeping.includes(o.kind)) ? "border-reed" : "border-line"),
        lines: [],
        does: b.ops
          .filter((o) => !(o.kind === "route" && o.detail.startsWith("to ")))
          .map((o) => ({ kind: o.kind, detail: o.detail })),
      },
    }));
    return { edges, placed: laidOut(nodes, edges) as typeof nodes };
  }, [plan]);
  const nodes = placed.map((n) => {
    const of = n.data.ids.map((id) => steps?.find((x) => x.id === id)).filter((s) => s !== undefined);
    const lines: string[] = [];
    const first = of[0],
      last = of[of.length - 1];
    const all = of.flatMap((s) => [s, ...(steps ?? []).filter((x) => x.kind === "side" && x.into === s.id)]);
    const sum = (f: (s: Step) => number | undefined) => all.reduce((t, s) => t + (f(s) ?? 0), 0);
    if (first && last) {
      lines.push(
        rates
          ? `${perSecond(rates[`${first.id} in`])} in → ${perSecond(rates[`${last.id} out`])} out`
          : `${count(first.counts.in)} in → ${count(last.out)} out`,
      );
      const share = first.counts.in > 0 ? last.out / first.counts.in : 0;
      const windows = of.some((s) => s.kind === "window" || s.kind === "table"); // what goes in is not what comes out
      const late = sum((s) => s.counts.late),
        rejected = sum((s) => s.counts.rejected),
        state = Math.max(...all.map((s) => s.bytes ?? 0));
      lines.push(
        [
          first.kind === "output" || windows || first.counts.in === 0
            ? ""
            : `${(share * 100).toFixed(share < 0.1 ? 1 : 0)} % pass`,
          state ? `${bytes(state)} state` : "",
          late ? `${count(late)} late` : "",
          rejected ? `${count(rejected)} rejected` : "",
        ]
          .filter(Boolean)
          .join(" · "),
      );
      const mark = of.find((s) => s.watermark !== undefined)?.watermark;
      if (mark !== undefined) lines[1] += `${lines[1] ? " · " : ""}up to ${instant(mark).slice(11, 19)}`;
    } else {
      const p = plan.steps.filter((s) => n.data.ids.includes(s.id));
      lines.push(p.find((s) => s.state)?.state?.words ?? p[p.length - 1]?.output ?? "");
    }
    const queued = of.find((s) => s.room);
    const waits = of.find((s) => s.waiting)?.waiting;
    return {
      ...n,
      data: {
        ...n.data,
        lines: lines.filter(Boolean),
        fill: queued?.room ? (queued.queued ?? 0) / queued.room : undefined,
        fault: waits ? `waits: ${waits.reason}` : undefined,
      },
    };
  });
  return (
    <div
      style={{ height }}
      data-testid="graph"
      role="group"
      aria-label={say("{{0}} steps: {{1}}", { 0: placed.length, 1: placed.map((s) => s.data.name).join(", ") })}
    >
      <ReactFlow
        nodes={nodes}
        edges={edges}
        nodeTypes={types}
        fitView
        fitViewOptions={{ padding: 0.06 }}
        minZoom={0.15}
        nodesDraggable={false}
        nodesConnectable={false}
        nodesFocusable={false}
        edgesFocusable={false}
        proOptions={{ hideAttribution: true }}
      >
        <Background color="var(--color-line)" gap={22} />
        <Controls showInteractive={false} />
      </ReactFlow>
    </div>
  );
}
