// The panels of a board: what each kind draws of its rows.
import { toPng } from "html-to-image";
import { lazy, memo, Suspense, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { download, type BoardPanel, type Row } from "./api";
import { setCursor, useCursor } from "./cursor";
import { Button, cell, count, Fault, Guard, Rows, Scroll } from "./parts";
import type { Series } from "./plot";
import {
  bars,
  byTime,
  gapped,
  histogram,
  listed,
  numeric,
  outstanding,
  recent,
  stacked,
  stays,
  summary,
  type Standing,
} from "./standing";
import { colour } from "./theme";
import { clock, timestamp, useZone } from "./zone";
import { say } from "./i18n";

const Plot = lazy(() => import("./plot"));
const PlacesPanel = lazy(() => import("./maps").then((m) => ({ default: m.PlacesPanel })));
const AreasPanel = lazy(() => import("./maps").then((m) => ({ default: m.AreasPanel })));

/** A panel: its title, what it shows, and what can be had of it. */
export function PanelBox({
  panel,
  now,
  seconds = 0,
  handle,
  corner,
  className = "",
  ...rest
}: {
  panel: BoardPanel;
  now: Standing;
  /** Only the last of its event time, seconds; 0: all. */
  seconds?: number;
  /** What stands before the title, and in the corner, while a board is being changed. */
  handle?: ReactNode;
  corner?: ReactNode;
  className?: string;
} & React.HTMLAttributes<HTMLElement>) {
  const [asTable, setAsTable] = useState(false);
  const box = useRef<HTMLElement>(null);
  const rows = useMemo(() => recent(panel, [...now.rows.values()], seconds), [panel, now, seconds]);
  const drawing = panel.kind !== "text" && panel.kind !== "table";
  const [fault, setFault] = useState("");
  const save = () =>
    download(`${panel.title.replace(/[^\w-]+/g, "-")}.csv`, "/api/file", {
      format: "csv",
      columns: panel.columns,
      rows,
    }).then(
      () => setFault(""),
      (e: Error) => setFault(e.message),
    );
  const picture = () =>
    toPng(box.current!, {
      backgroundColor: colour("sheet"),
      pixelRatio: 2,
      skipFonts: true,
      filter: (n) => !(n instanceof HTMLElement && n.dataset.aside !== undefined),
    }).then(
      (url) => {
        setFault("");
        const a = document.createElement("a");
        a.href = url;
        a.download = `${panel.title.replace(/[^\w-]+/g, "-")}.png`;
        a.click();
      },
      (e: unknown) => setFault(`The picture could not be made: ${e instanceof Error ? e.message : String(e)}`),
    );
  const notes = [
    now.dropped > 0 && `${count(now.dropped)} older rows are not kept`,
    now.late > 0 && `${count(now.late)} late`,
    now.rejected > 0 && `${count(now.rejected)} rejected`,
  ].filter(Boolean);
  return (
    <section
      {...rest}
      ref={box}
      data-testid="panel"
      aria-label={panel.title}
      style={{ "--wide": `span ${panel.wide}`, "--high": `span ${panel.high}` } as React.CSSProperties}
      className={`relative flex min-w-0 flex-col overflow-hidden rounded-lg border border-line bg-sheet [grid-row:var(--high)] md:[grid-column:var(--wide)] ${className}`}
    >
      <header className="flex items-center gap-2 border-b border-line px-3 py-1.5">
        {handle}
        <h2 className="min-w-0 truncate text-sm font-semibold">{panel.title}</h2>
        {notes.length > 0 && (
          <span className="min-w-0 shrink-[100] truncate text-xs text-soft">{notes.join(", ")}</span>
        )}
        {panel.kind !== "text" && !handle && (
          <span className="ml-auto flex shrink-0 gap-1" data-aside="">
            {drawing && (
              <Button small testid="as-table" onClick={() => setAsTable(!asTable)}>
                {asTable ? say("Drawing") : say("Table")}
              </Button>
            )}
            <Button small testid="save" disabled={rows.length === 0} onClick={() => void save()}>
              {say("CSV")}
            </Button>
            <Button small testid="picture" disabled={rows.length === 0} onClick={() => void picture()}>
              {say("PNG")}
            </Button>
          </span>
        )}
      </header>
      {(panel.problem || now.problem || fault) && (
        <div className="min-h-0 overflow-y-auto p-2">
          <Fault>{panel.problem || now.problem || fault}</Fault>
        </div>
      )}
      <div className="min-h-0 flex-1">
        <Guard what={panel.title} of={rows}>
          <Content panel={panel} rows={rows} asTable={asTable} />
        </Guard>
      </div>
      {corner}
    </section>
  );
}

function Content({ panel, rows, asTable }: Drawn & { asTable: boolean }) {
  return panel.kind === "text" ? (
    <p className="h-full overflow-y-auto p-3 whitespace-pre-wrap">{panel.words}</p>
  ) : rows.length === 0 ? (
    <p className="p-4 text-center text-soft">{say("No rows yet.")}</p>
  ) : asTable || panel.kind === "table" ? (
    <TablePanel panel={panel} rows={rows} />
  ) : (
    <div className="h-full" role="group" aria-label={summary(panel, rows)}>
      {panel.kind === "number" ? (
        <NumberPanel panel={panel} rows={rows} />
      ) : panel.kind === "bars" ? (
        <BarsPanel panel={panel} rows={rows} />
      ) : panel.kind === "heat" ? (
        <HeatPanel panel={panel} rows={rows} />
      ) : panel.kind === "histogram" ? (
        <HistogramPanel panel={panel} rows={rows} />
      ) : panel.kind === "states" ? (
        <StatesPanel panel={panel} rows={rows} />
      ) : panel.kind === "map" || panel.kind === "areas" ? (
        <Suspense fallback={<p className="p-3 text-soft">{say("Drawing …")}</p>}>
          {panel.kind === "map" ? <PlacesPanel panel={panel} rows={rows} /> : <AreasPanel panel={panel} rows={rows} />}
        </Suspense>
      ) : (
        <SeriesPanel panel={panel} rows={rows} />
      )}
    </div>
  );
}

export type Drawn = { panel: BoardPanel; rows: Row[] };

/** A number between 0 and 1 as a shade: the darker (in a dark scheme the lighter) the larger, of one tone, so that it can be read without telling colours apart. */
export const shade = (share: number) =>
  `color-mix(in oklab, var(--color-river) ${Math.round(15 + 85 * share)}%, var(--color-sheet))`;

export const said = (v: number) => v.toLocaleString("en-US", { maximumFractionDigits: 2 });

/** A mark beside a value that stands out: a colour alone says nothing to some. */
export function Mark({ how }: { how?: "above" | "below" }) {
  if (!how) return null;
  return (
    <span className="text-clay" title={how === "above" ? "at or above the threshold" : "at or below the threshold"}>
      {how === "above" ? " ▲" : " ▼"}
    </span>
  );
}

function NumberPanel({ panel, rows }: Drawn) {
  const v = numeric(rows[rows.length - 1]![panel.value ?? ""]);
  const how = outstanding(panel, v);
  return (
    <p className={`flex h-full items-center justify-center gap-2 p-2 ${how ? "text-clay" : ""}`}>
      <span className="text-4xl font-semibold tabular-nums">{v === null ? "–" : said(v)}</span>
      {panel.unit && <span className="text-soft">{panel.unit}</span>}
      <Mark how={how} />
    </p>
  );
}

const BarsPanel = memo(function BarsPanel({ panel, rows }: Drawn) {
  const list = bars(panel, rows);
  const most = Math.max(1e-9, ...list.map(([, v]) => Math.abs(v)));
  return (
    <Scroll className="h-full max-h-full">
      <dl className="grid grid-cols-[minmax(4rem,max-content)_1fr_max-content] items-center gap-x-3 gap-y-1 p-3 text-xs">
        {list.map(([label, v]) => (
          <div key={label} className="contents">
            <dt className="truncate text-right">{label}</dt>
            <dd aria-hidden="true">
              <div
                className={`h-3 rounded-sm ${outstanding(panel, v) ? "bg-clay" : "bg-river"}`}
                style={{ width: `${(Math.abs(v) / most) * 100}%` }}
              />
            </dd>
            <dd className="tabular-nums">
              {said(v)}
              {panel.unit ? ` ${panel.unit}` : ""}
              <Mark how={outstanding(panel, v)} />
            </dd>
          </div>
        ))}
      </dl>
    </Scroll>
  );
});

function TablePanel({ panel, rows }: Drawn) {
  const zone = useZone();
  const list = listed(panel, rows);
  const most = panel.value ? Math.max(1e-9, ...list.map((r) => Math.abs(numeric(r[panel.value!]) ?? 0))) : 1;
  const number = (t: string) => /^(INT|BIGINT|DOUBLE|DECIMAL.*)$/.test(t);
  return (
    <Scroll className="h-full max-h-full">
      <Rows
        key={zone}
        testid="panel-rows"
        of={list}
        id={(_, i) => i}
        columns={panel.columns.map((c) => ({
          head: c.name,
          right: number(c.type),
          of: (r: Row) => {
            if (c.type === "TIMESTAMP" && r[c.name] !== null) return timestamp(r[c.name]);
            if (c.name !== panel.value) return cell(r[c.name]);
            const v = numeric(r[c.name]);
            return (
              <span className="flex items-center justify-end gap-2">
                <span className="h-2 w-16" aria-hidden="true">
                  <span
                    className={`block h-2 rounded-sm ${outstanding(panel, v) ? "bg-clay" : "bg-river/60"}`}
                    style={{ width: `${(Math.abs(v ?? 0) / most) * 100}%` }}
                  />
                </span>
                <span className="tabular-nums">{v === null ? "–" : said(v)}</span>
                <Mark how={outstanding(panel, v)} />
              </span>
            );
          },
        }))}
      />
    </Scroll>
  );
}

const tones = ["river", "clay", "sand", "reed", "soft", "ink"];
const dashes: (number[] | undefined)[] = [undefined, [7, 4], [2, 3]];
/** More lines than that nobody tells apart. */
const mostLines = tones.length * dashes.length;

function SeriesPanel({ panel, rows }: Drawn) {
  const { x, series, left } = useMemo(() => {
    const t = byTime(panel, rows);
    const g = gapped(t.times, panel.stacked ? stacked(t.values) : t.values);
    const lines: Series[] = t.labels.slice(0, mostLines).map((label, i) => ({
      label,
      values: g.values[i]!,
      tone: tones[i % tones.length]!,
      dash: dashes[Math.floor(i / tones.length)],
    }));
    for (const [label, at] of [
      ["not above", panel.above],
      ["not below", panel.below],
    ] as const)
      if (at !== undefined)
        lines.push({ label: `${label} ${said(at)}`, values: g.times.map(() => at), tone: "clay", dash: [1, 4] });
    return { x: g.times, series: lines, left: t.labels.length - mostLines };
  }, [panel, rows]);
  const box = useRef<HTMLDivElement>(null);
  const [high, setHigh] = useState(0);
  useEffect(() => {
    const el = box.current!;
    const sized = new ResizeObserver(() => setHigh(Math.floor(el.clientHeight)));
    sized.observe(el);
    return () => sized.disconnect();
  }, []);
  return (
    <div className="flex h-full flex-col overflow-hidden px-2 pt-2 pb-1">
      <div ref={box} className="min-h-0 flex-1 overflow-hidden">
        {high > 0 && (
          <Suspense fallback={<p className="text-soft">{say("Drawing …")}</p>}>
            <Plot shared title={panel.title} legend={false} x={x} series={series} height={high} />
          </Suspense>
        )}
      </div>
      {series.length > 1 && (
        <Scroll className="max-h-16 shrink-0">
          <ul className="flex flex-wrap gap-x-3 text-[11px] leading-[18px]" data-testid="legend">
            {series.map((l) => (
              <li key={l.label} className="flex items-center gap-1">
                <svg width="22" height="6" aria-hidden="true">
                  <line
                    x1="0"
                    x2="22"
                    y1="3"
                    y2="3"
                    strokeWidth="2"
                    strokeDasharray={l.dash?.join(" ")}
                    style={{ stroke: `var(--color-${l.tone})` }}
                  />
                </svg>
                {l.label}
                <span className="text-soft tabular-nums">{lastOf(l.values)}</span>
              </li>
            ))}
          </ul>
        </Scroll>
      )}
      {left > 0 && <p className="text-xs text-soft">{say("{{0}} more lines are not drawn.", { 0: count(left) })}</p>}
    </div>
  );
}

const lastOf = (values: (number | null)[]) => {
  const v = values.findLast((x) => x !== null);
  return v === undefined || v === null ? "" : said(v);
};

/** How many times and labels are drawn as cells. */
const mostTimes = 60,
  mostLabels = 40;

const HeatPanel = memo(function HeatPanel({ panel, rows }: Drawn) {
  const t = byTime(panel, rows);
  const from = Math.max(0, t.times.length - mostTimes);
  const times = t.times.slice(from);
  const lines = t.labels.slice(0, mostLabels).map((label, i) => ({ label, values: t.values[i]!.slice(from) }));
  const all = lines.flatMap((l) => l.values).filter((v): v is number => v !== null);
  const low = Math.min(...all),
    high = Math.max(...all);
  const share = (v: number) => (high > low ? (v - low) / (high - low) : 1);
  const cursor = useCursor();
  const at = cursor === null ? -1 : nearest(times, cursor);
  const toned = (v: number) => shade(share(v));
  return (
    <Scroll className="h-full max-h-full">
      <div className="p-3 text-xs">
        <div
          className="grid gap-px"
          style={{ gridTemplateColumns: `max-content repeat(${times.length}, minmax(4px, 1fr))` }}
        >
          {lines.map((l) => (
            <div key={l.label} className="contents">
              <div className="pr-2 text-right leading-4">{l.label}</div>
              {l.values.map((v, i) => (
                <div
                  key={times[i]}
                  className={`h-4 ${i === at ? "ring-1 ring-sand" : ""}`}
                  onPointerEnter={() => setCursor(times[i]!)}
                  onPointerLeave={() => setCursor(null)}
                  title={
                    v === null ? undefined : `${l.label}, ${clock(times[i]! * 1e6)}: ${said(v)} ${panel.unit ?? ""}`
                  }
                  style={v === null ? undefined : { background: toned(v) }}
                />
              ))}
            </div>
          ))}
        </div>
        <div className="mt-2 flex items-center justify-between gap-4 text-soft">
          <span>{times.length > 0 && `${clock(times[0]! * 1e6)} to ${clock(times[times.length - 1]! * 1e6)}`}</span>
          {all.length > 0 && (
            <span className="flex items-center gap-2">
              {said(low)}
              <span
                className="inline-block h-2 w-24"
                aria-hidden="true"
                style={{ background: `linear-gradient(to right, ${toned(low)}, ${toned(high)})` }}
              />
              {said(high)} {panel.unit}
            </span>
          )}
        </div>
      </div>
    </Scroll>
  );
});

/** Which of times, in their order, is the one before or at a time; -1: none. */
function nearest(times: number[], t: number): number {
  return times.findLastIndex((x) => x <= t);
}

const HistogramPanel = memo(function HistogramPanel({ panel, rows }: Drawn) {
  const values = rows.map((r) => numeric(r[panel.value ?? ""])).filter((v) => v !== null);
  if (values.length === 0) return <p className="p-4 text-center text-soft">{say("No numbers yet.")}</p>;
  const { low, step, counts } = histogram(values, panel.bins ?? 0);
  const most = Math.max(...counts);
  const edge = (i: number) => said(low + i * step);
  const every = Math.ceil(counts.length / 8);
  return (
    <div className="flex h-full flex-col p-3 text-xs">
      <div className="flex min-h-0 flex-1 items-end gap-px" data-testid="bins">
        {counts.map((n, i) => (
          <div
            key={i}
            className="group relative h-full flex-1"
            title={say("{{0}} to {{1}} {{2}}: {{3}}", { 0: edge(i), 1: edge(i + 1), 2: panel.unit ?? "", 3: count(n) })}
          >
            <div
              className="absolute inset-x-0 bottom-0 rounded-t-sm bg-river group-hover:bg-sand"
              style={{ height: `${(n / most) * 100}%` }}
            />
          </div>
        ))}
      </div>
      <div className="mt-1 flex border-t border-line pt-1 text-soft tabular-nums" aria-hidden="true">
        {counts.map((_, i) => (
          <span key={i} className="min-w-0 flex-1 overflow-visible whitespace-nowrap">
            {i % every === 0 ? edge(i) : ""}
          </span>
        ))}
      </div>
      <p className="mt-1 text-soft">
        {say("{{0}} values from {{1}} to {{2}}", {
          0: count(values.length),
          1: said(Math.min(...values)),
          2: said(Math.max(...values)),
        })}{" "}
        {panel.unit}
        {say("; the highest bar counts {{0}}", { 0: count(most) })}
      </p>
    </div>
  );
});

/** States are told apart by tone and by the pattern over it, and named where there is room: a colour alone says nothing to some. */
const patterns = [
  "",
  "repeating-linear-gradient(45deg, transparent 0 4px, color-mix(in oklab, var(--color-sheet) 45%, transparent) 4px 6px)",
  "radial-gradient(color-mix(in oklab, var(--color-sheet) 55%, transparent) 1px, transparent 1.5px) 0 0 / 5px 5px",
];
const stateTones = ["river", "sand", "clay", "reed", "soft"];
const stateStyle = (panel: BoardPanel, state: string, i: number): React.CSSProperties => {
  const order = panel.order ?? [];
  const at = order.indexOf(state);
  if (at >= 0)
    return {
      backgroundColor: shade(at / Math.max(1, order.length - 1)),
    };
  return {
    backgroundColor: `color-mix(in oklab, var(--color-${stateTones[i % stateTones.length]}) 75%, var(--color-sheet))`,
    backgroundImage: patterns[Math.floor(i / stateTones.length) % patterns.length] || undefined,
  };
};

const StatesPanel = memo(function StatesPanel({ panel, rows }: Drawn) {
  const { labels, states, from, end } = useMemo(() => stays(panel, rows), [panel, rows]);
  const cursor = useCursor();
  if (labels.length === 0) return <p className="p-4 text-center text-soft">{say("No states yet.")}</p>;
  const long = Math.max(end - from, 1);
  const share = (t: number) => ((t - from) / long) * 100;
  const which = (t: number, list: { state: string; from: number }[]) => list.findLast((s) => s.from <= t)?.state;
  return (
    <Scroll className="h-full max-h-full">
      <div className="p-3 text-xs">
        <div className="grid grid-cols-[max-content_1fr_max-content] items-center gap-x-2 gap-y-1" data-testid="states">
          {labels.slice(0, mostLabels).map(([label, list]) => (
            <div key={label} className="contents">
              <div className="max-w-40 truncate text-right">{label}</div>
              <div
                className="relative h-4 overflow-hidden rounded-sm bg-line/40"
                onPointerMove={(e) => {
                  const box = e.currentTarget.getBoundingClientRect();
                  setCursor(from + ((e.clientX - box.left) / box.width) * long);
                }}
                onPointerLeave={() => setCursor(null)}
              >
                {list.map((s) => (
                  <div
                    key={s.from}
                    className="absolute inset-y-0 border-r border-sheet"
                    title={say("{{0}}: {{1}} from {{2}}{{3}}", {
                      0: label,
                      1: s.state,
                      2: clock(s.from * 1e6),
                      3: s.to ? ` to ${clock(s.to * 1e6)}` : "",
                    })}
                    style={{
                      ...stateStyle(panel, s.state, states.indexOf(s.state)),
                      left: `${share(s.from)}%`,
                      width: `${share(s.to ?? end) - share(s.from)}%`,
                      minWidth: 3,
                    }}
                  />
                ))}
                {cursor !== null && cursor >= from && cursor <= end && (
                  <div className="absolute inset-y-0 w-px bg-ink" style={{ left: `${share(cursor)}%` }} />
                )}
              </div>
              <div className="text-soft">
                {(cursor === null ? undefined : which(cursor, list)) ?? list[list.length - 1]!.state}
              </div>
            </div>
          ))}
        </div>
        {labels.length > mostLabels && (
          <p className="mt-1 text-soft">{say("{{0}} more are not drawn.", { 0: count(labels.length - mostLabels) })}</p>
        )}
        <div className="mt-2 flex flex-wrap items-center justify-between gap-x-4 gap-y-1 text-soft">
          <span>{say("{{0}} to {{1}}", { 0: clock(from * 1e6), 1: clock(end * 1e6) })}</span>
          <ul className="flex flex-wrap gap-x-3" data-testid="legend">
            {states.map((s, i) => (
              <li key={s} className="flex items-center gap-1">
                <span className="inline-block h-3 w-4 rounded-sm" style={stateStyle(panel, s, i)} aria-hidden="true" />
                {s}
              </li>
            ))}
          </ul>
        </div>
      </div>
    </Scroll>
  );
});
