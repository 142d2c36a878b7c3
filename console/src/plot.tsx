// Lines and bars over time or categories.
import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { onCursor, setCursor } from "./cursor";
import { colour } from "./theme";
import { clock, useZone } from "./zone";

export type Series = { label: string; values: (number | null)[]; tone: string; dash?: number[] };

const kinds = { line: undefined, bars: { size: [0.7, 60] as [number, number] } };

/** x are seconds since 1970, in order. */
export default function Plot({
  title,
  x,
  series,
  height = 150,
  kind = "line",
  legend = true,
  shared = false,
}: {
  title: string;
  x: number[];
  series: Series[];
  height?: number;
  kind?: "line" | "bars";
  /** Whether names stand below: whoever draws them elsewhere says no, and names the plot there, too. */
  legend?: boolean;
  /** Whether its cursor is that of all plots of the page that share it. */
  shared?: boolean;
}) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const zone = useZone();
  const names = series.map((s) => s.label + s.tone).join();
  useEffect(() => {
    const el = box.current!;
    const axis = {
      stroke: colour("soft"),
      grid: { stroke: colour("line"), width: 1 },
      ticks: { stroke: colour("line"), width: 1 },
      font: "11px sans-serif",
    };
    const made = new uPlot(
      {
        width: el.clientWidth || 400,
        height,
        ...(legend ? { title } : {}),
        cursor: { drag: { setScale: false } },
        legend: { show: legend, live: true },
        hooks: shared
          ? {
              setCursor: [
                (u) => {
                  if (!u.cursor.event) return; // another plot has moved it
                  const at = u.cursor.left === undefined || u.cursor.left < 0 ? null : u.posToVal(u.cursor.left, "x");
                  setCursor(at);
                },
              ],
            }
          : {},
        scales: { x: { time: true } },
        axes: [
          { ...axis, values: (_, at) => at.map((t) => clock(t * 1e6)) },
          { ...axis, size: 56, values: (_, at) => at.map(short) },
        ],
        series: [
          { value: (_, t) => (t === null ? "" : clock(t * 1e6)) },
          ...series.map((s) => ({
            label: s.label,
            stroke: colour(s.tone),
            width: 1.5,
            dash: s.dash,
            fill: kind === "bars" ? colour(s.tone) : undefined,
            paths: kind === "bars" ? uPlot.paths.bars!(kinds.bars) : undefined,
            points: { show: x.length < 3 },
            value: (_: uPlot, v: number | null) => (v === null ? "–" : short(v)),
          })),
        ],
      },
      [x, ...series.map((s) => s.values)],
      el,
    );
    plot.current = made;
    const sized = new ResizeObserver(() => made.setSize({ width: el.clientWidth, height }));
    sized.observe(el);
    const leave = shared
      ? onCursor((t) => {
          if (made.over.matches(":hover")) return;
          if (t === null) made.setCursor({ left: -10, top: -10 }, false);
          else made.setCursor({ left: made.valToPos(t, "x"), top: 0 }, false);
        })
      : () => {};
    return () => {
      leave();
      sized.disconnect();
      made.destroy();
    };
    // The data is set below; only another form makes another plot.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [title, names, height, kind, zone, shared]);
  useEffect(() => {
    plot.current?.setData([x, ...series.map((s) => s.values)]);
  }, [x, series]);
  const last = series.map((s) => `${s.label} ${short(s.values.findLast((v) => v !== null) ?? 0)}`).join(", ");
  return <div ref={box} role="img" aria-label={`${title}: ${last}`} className="min-w-0" />;
}

export function short(v: number): string {
  const a = Math.abs(v);
  if (a >= 1e9) return `${(v / 1e9).toFixed(1)}G`;
  if (a >= 1e6) return `${(v / 1e6).toFixed(1)}M`;
  if (a >= 1e4) return `${(v / 1e3).toFixed(0)}k`;
  if (a >= 1e3) return `${(v / 1e3).toFixed(1)}k`;
  return a >= 10 || v === Math.round(v) ? v.toFixed(0) : v.toFixed(2);
}
