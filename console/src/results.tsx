// Rows as a table, a time series, bars, or points on a plane map; and as a file.
import { lazy, Suspense, useMemo, useState } from "react";
import { download, type Column, type Row } from "./api";
import { Button, cell, count, Empty, Fault, Scroll, Select, Rows } from "./parts";
import { timestamp, useZone } from "./zone";
import { say } from "./i18n";

const Plot = lazy(() => import("./plot"));

export type Shape = "table" | "series" | "bars" | "map";
const isNumber = (c: Column) => /^(INT|BIGINT|DOUBLE|DECIMAL.*)$/.test(c.type);
const isTime = (c: Column) => c.type === "TIMESTAMP";
const tones = ["river", "clay", "sand", "reed", "soft", "ink"];

/** Shows rows in one of several shapes. onWhy, where given, is asked for a row's origin. */
export function Results({
  columns,
  rows,
  total,
  note,
  onWhy,
}: {
  columns: Column[];
  rows: Row[];
  total: number;
  note?: string;
  onWhy?: (r: Row) => void;
}) {
  const zone = useZone();
  const [shape, setShape] = useState<Shape>("table");
  const [fault, setFault] = useState("");
  const places = useMemo(() => coordinates(columns, rows), [columns, rows]);
  const shapes: { id: Shape; label: string; ok: boolean }[] = [
    { id: "table", label: say("Table"), ok: true },
    { id: "series", label: say("Over time"), ok: columns.some(isNumber) && columns.some(isTime) },
    { id: "bars", label: say("Bars"), ok: columns.some(isNumber) && columns.some((c) => c.type === "VARCHAR") },
    { id: "map", label: say("Map"), ok: places !== undefined },
  ];
  const chosen = shapes.find((s) => s.id === shape && s.ok) ? shape : "table";
  const save = (format: "csv" | "json" | "parquet") => {
    setFault("");
    download(`rows.${format === "json" ? "ndjson" : format}`, "/api/file", { format, columns, rows }).catch(
      (e: Error) => setFault(e.message),
    );
  };
  return (
    <div>
      <div className="flex flex-wrap items-center gap-2 border-b border-line px-4 py-2">
        <div
          role="group"
          aria-label={say("Shape of the result")}
          className="flex overflow-hidden rounded-md border border-line"
        >
          {shapes.map((s) => (
            <button
              key={s.id}
              type="button"
              disabled={!s.ok}
              aria-pressed={chosen === s.id}
              data-testid={`shape-${s.id}`}
              onClick={() => setShape(s.id)}
              className={`cursor-pointer px-2.5 py-1 text-xs font-medium disabled:cursor-default disabled:opacity-40 ${chosen === s.id ? "bg-river-pale text-river" : "text-soft hover:text-ink"}`}
            >
              {s.label}
            </button>
          ))}
        </div>
        <span className="text-xs text-soft" data-testid="total">
          {say("{{0}} rows{{1}}{{2}}", {
            0: count(total),
            1: total > rows.length ? `, ${count(rows.length)} shown` : "",
            2: note ? `; ${note}` : "",
          })}
        </span>
        <span className="ml-auto flex items-center gap-1.5 text-xs text-soft">
          {say("Save as")}
          {(["csv", "json", "parquet"] as const).map((f) => (
            <Button key={f} small disabled={rows.length === 0} testid={`save-${f}`} onClick={() => save(f)}>
              {f === "csv" ? say("CSV") : f === "json" ? say("JSON") : say("Parquet")}
            </Button>
          ))}
        </span>
      </div>
      {fault && (
        <div className="p-3">
          <Fault>{fault}</Fault>
        </div>
      )}
      {rows.length === 0 ? (
        <Empty>{say("There are no rows.")}</Empty>
      ) : chosen === "table" ? (
        <Table columns={columns} rows={rows} onWhy={onWhy} key={zone} />
      ) : (
        <div className="p-3">
          <Suspense fallback={<p className="text-soft">{say("Drawing …")}</p>}>
            {chosen === "series" ? (
              <TimeSeries columns={columns} rows={rows} />
            ) : chosen === "bars" ? (
              <Bars columns={columns} rows={rows} />
            ) : (
              <PlaneMap columns={columns} places={places!} />
            )}
          </Suspense>
        </div>
      )}
    </div>
  );
}

/** How many rows a table draws. */
const shownRows = 500;

function Table({ columns, rows, onWhy }: { columns: Column[]; rows: Row[]; onWhy?: (r: Row) => void }) {
  return (
    <Scroll>
      {rows.length > shownRows && (
        <p className="px-4 pt-2 text-xs text-soft">
          {say("The first {{0}} are drawn here; a file gets all {{1}}.", {
            0: count(shownRows),
            1: count(rows.length),
          })}
        </p>
      )}
      <Rows
        testid="rows"
        of={rows.slice(0, shownRows)}
        id={(_, i) => i}
        columns={[
          ...columns.map((c) => ({
            head: (
              <>
                {c.name} <span className="font-normal text-soft">{c.type.toLowerCase()}</span>
                {c.masked && (
                  <span
                    className="ml-1 rounded bg-sand/15 px-1 font-normal text-sand"
                    title={say("sensitive: its values are shown to those alone who have the role disclose")}
                  >
                    {say("masked")}
                  </span>
                )}
              </>
            ),
            mono: true,
            right: isNumber(c),
            of: (r: Row) => (isTime(c) && r[c.name] !== null ? timestamp(r[c.name]) : cell(r[c.name])),
          })),
          ...(onWhy
            ? [
                {
                  right: true,
                  of: (r: Row) => (
                    <Button small testid="why" onClick={() => onWhy(r)}>
                      {say("Why?")}
                    </Button>
                  ),
                },
              ]
            : []),
        ]}
      />
    </Scroll>
  );
}

const number = (v: unknown) => (v === null || v === undefined ? null : typeof v === "number" ? v : Number(v));

/** A choice among columns. */
function Pick({
  label,
  from,
  value,
  onChange,
}: {
  label: string;
  from: Column[];
  value: string;
  onChange: (v: string) => void;
}) {
  return (
    <label className="flex items-center gap-1.5 text-xs text-soft">
      {label}
      <Select value={value} onChange={(e) => onChange(e.target.value)}>
        {from.map((c) => (
          <option key={c.name}>{c.name}</option>
        ))}
      </Select>
    </label>
  );
}

function TimeSeries({ columns, rows }: { columns: Column[]; rows: Row[] }) {
  const numbers = columns.filter(isNumber),
    times = columns.filter(isTime),
    texts = columns.filter((c) => c.type === "VARCHAR");
  const [y, setY] = useState(numbers[numbers.length - 1]!.name);
  const [x, setX] = useState(times[0]!.name);
  const by = texts[0]?.name;
  const { at, series } = useMemo(() => {
    const moments = [...new Set(rows.map((r) => Date.parse(String(r[x])) / 1000).filter((t) => !Number.isNaN(t)))].sort(
      (a, b) => a - b,
    );
    const place = new Map(moments.map((t, i) => [t, i]));
    const groups = new Map<string, (number | null)[]>();
    for (const r of rows) {
      const i = place.get(Date.parse(String(r[x])) / 1000);
      if (i === undefined) continue;
      const g = by ? String(r[by]) : y;
      if (!groups.has(g) && groups.size >= tones.length) continue; // more lines than that nobody tells apart
      if (!groups.has(g)) groups.set(g, new Array<number | null>(moments.length).fill(null));
      groups.get(g)![i] = number(r[y]);
    }
    return {
      at: moments,
      series: [...groups]
        .sort(([a], [b]) => a.localeCompare(b))
        .map(([label, values], i) => ({ label, values, tone: tones[i]! })),
    };
  }, [rows, x, y, by]);
  return (
    <>
      <div className="mb-2 flex flex-wrap gap-4">
        <Pick label={say("Number")} from={numbers} value={y} onChange={setY} />
        <Pick label={say("Time")} from={times} value={x} onChange={setX} />
      </div>
      <Plot title={by ? `${y} by ${by}` : y} x={at} series={series} height={260} />
    </>
  );
}

function Bars({ columns, rows }: { columns: Column[]; rows: Row[] }) {
  const numbers = columns.filter(isNumber),
    texts = columns.filter((c) => c.type === "VARCHAR");
  const [y, setY] = useState(numbers[numbers.length - 1]!.name);
  const [x, setX] = useState(texts[0]!.name);
  const bars = useMemo(() => {
    const newest = new Map<string, number>(); // the last row of a name counts
    for (const r of rows) {
      const v = number(r[y]);
      if (v !== null) newest.set(String(r[x]), v);
    }
    return [...newest].sort((a, b) => b[1] - a[1]).slice(0, 40);
  }, [rows, x, y]);
  const most = Math.max(1e-9, ...bars.map(([, v]) => Math.abs(v)));
  return (
    <>
      <div className="mb-3 flex flex-wrap gap-4">
        <Pick label={say("Number")} from={numbers} value={y} onChange={setY} />
        <Pick label={say("Name")} from={texts} value={x} onChange={setX} />
      </div>
      <dl
        className="grid grid-cols-[max-content_1fr_max-content] items-center gap-x-3 gap-y-1 text-xs"
        data-testid="bars"
      >
        {bars.map(([n, v]) => (
          <div key={n} className="contents">
            <dt className="text-right">{n}</dt>
            <dd aria-hidden="true">
              <div
                className={`h-3 rounded-sm ${v < 0 ? "bg-clay" : "bg-river"}`}
                style={{ width: `${(Math.abs(v) / most) * 100}%` }}
              />
            </dd>
            <dd className="tabular-nums">{v.toLocaleString("en-US", { maximumFractionDigits: 3 })}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

type Place = { x: number; y: number; name: string; row: Row };

/** Finds coordinates: columns lat and lon, or a ROW with both. */
function coordinates(columns: Column[], rows: Row[]): Place[] | undefined {
  const find = (r: Row): [number, number] | undefined => {
    const pair = (o: Row) => {
      const k = (names: string[]) => Object.keys(o).find((n) => names.includes(n.toLowerCase()));
      const lat = k(["lat", "latitude"]),
        lon = k(["lon", "lng", "longitude"]);
      return lat && lon && typeof o[lat] === "number" && typeof o[lon] === "number"
        ? ([o[lon], o[lat]] as [number, number])
        : undefined;
    };
    return (
      pair(r) ??
      Object.values(r)
        .flatMap((v) => (v && typeof v === "object" && !Array.isArray(v) ? [pair(v as Row)] : []))
        .find(Boolean)
    );
  };
  const name = columns.find((c) => c.type === "VARCHAR")?.name;
  const out = rows.slice(0, 5000).flatMap((row) => {
    const at = find(row);
    return at ? [{ x: at[0], y: at[1], name: name ? String(row[name]) : "", row }] : [];
  });
  return out.length > 0 ? out : undefined;
}

/** Points on a plane, drawn from their coordinates alone: degrees of longitude are shortened by the latitude. */
function PlaneMap({ columns, places }: { columns: Column[]; places: Place[] }) {
  const numbers = columns.filter((c) => isNumber(c) && !/^(lat|lon|lng|latitude|longitude)$/i.test(c.name));
  const [size, setSize] = useState(numbers[0]?.name ?? "");
  const width = 900,
    height = 420,
    edge = 40;
  const mid = places.reduce((s, p) => s + p.y, 0) / places.length;
  const squeeze = Math.cos((mid * Math.PI) / 180);
  const xs = places.map((p) => p.x * squeeze),
    ys = places.map((p) => p.y);
  const low = { x: Math.min(...xs), y: Math.min(...ys) },
    span = Math.max(Math.max(...xs) - low.x, Math.max(...ys) - low.y, 1e-6);
  const scale = Math.min(
    (width - 2 * edge) / Math.max(Math.max(...xs) - low.x, span * 0.4),
    (height - 2 * edge) / Math.max(Math.max(...ys) - low.y, span * 0.2),
  );
  const at = (p: Place) => [edge + (p.x * squeeze - low.x) * scale, height - edge - (p.y - low.y) * scale] as const;
  const most = Math.max(1e-9, ...places.map((p) => Math.abs(number(p.row[size]) ?? 0)));
  const seen = new Set<string>();
  const metres = niceLength((width / 4 / scale) * 111_195);
  return (
    <>
      {numbers.length > 0 && (
        <div className="mb-2">
          <Pick label={say("Size of the points")} from={numbers} value={size} onChange={setSize} />
        </div>
      )}
      <svg
        viewBox={`0 0 ${width} ${height}`}
        className="w-full rounded border border-line bg-paper text-[11px]"
        role="img"
        data-testid="map"
        aria-label={say("{{0}} points by longitude and latitude", { 0: places.length })}
      >
        {places.map((p, i) => {
          const [x, y] = at(p);
          const label = p.name && !seen.has(p.name) && seen.size < 40;
          if (label) seen.add(p.name);
          return (
            <g key={i}>
              <circle
                cx={x}
                cy={y}
                r={size ? 3 + 11 * Math.sqrt(Math.abs(number(p.row[size]) ?? 0) / most) : 4}
                className="fill-river/50 stroke-river"
              >
                <title>{`${p.name} ${p.y.toFixed(4)}, ${p.x.toFixed(4)}${size ? ` ${size} ${String(p.row[size])}` : ""}`}</title>
              </circle>
              {label && (
                <text x={x + 7} y={y - 6} className="fill-ink">
                  {p.name}
                </text>
              )}
            </g>
          );
        })}
        <line
          x1={edge}
          x2={edge + (metres / 111_195) * scale}
          y1={height - 14}
          y2={height - 14}
          strokeWidth={2}
          className="stroke-soft"
        />
        <text x={edge} y={height - 20} className="fill-soft">
          {metres >= 1000 ? say("{{0}} km", { 0: metres / 1000 }) : `${metres} m`}
        </text>
      </svg>
    </>
  );
}

function niceLength(m: number): number {
  const ten = Math.pow(10, Math.floor(Math.log10(m)));
  return [5, 2, 1].map((k) => k * ten).find((x) => x <= m) ?? ten;
}
