// What a step with windows has open, and where the watermark stands between its splits' newest events.
import type { JobDetail, OpenWindow, Step } from "./api";
import { count, length, Sheet } from "./parts";
import { clock, instant } from "./zone";
import { say } from "./i18n";

const shown = 14;

/** For each step with windows: its open windows on a line of event time, and below them the splits. */
export function Windows({ job }: { job: JobDetail }) {
  const steps = job.status.steps.filter((s) => s.kind === "window");
  return steps.map((s) => <OneStep key={s.id} step={s} job={job} />);
}

function OneStep({ step, job }: { step: Step; job: JobDetail }) {
  const splits = job.status.splits.filter((s) => s.newest_at !== undefined && !s.ended && !s.table);
  const windows = (step.open_windows ?? []).slice(0, shown).reverse();
  const mark = step.watermark;
  const times = [
    ...windows.flatMap((w) => [w.opens, w.closes]),
    ...splits.flatMap((s) => [s.newest_at!, s.watermark ?? s.newest_at!]),
    ...(mark === undefined ? [] : [mark]),
  ];
  const from = Math.min(...times),
    to = Math.max(...times);
  const aside = (
    <>
      {say("{{0}} open, {{1}} keys{{2}}{{3}}", {
        0: count(step.windows ?? 0),
        1: count(step.keys ?? 0),
        2: step.lateness ? `, corrections for ${length(step.lateness)}` : "",
        3: step.counts.partly ? `, ${count(step.counts.partly)} rows late for some of their windows` : "",
      })}
    </>
  );
  if (times.length === 0 || to === from) {
    return (
      <Sheet title={say("Windows of {{0}}", { 0: step.step })} aside={aside}>
        <p className="px-4 py-6 text-center text-soft">{say("No window is open. One opens with the next row.")}</p>
      </Sheet>
    );
  }
  const left = 190,
    width = 960,
    row = 18,
    top = 22;
  const x = (us: number) => left + ((us - from) / (to - from)) * (width - left - 70);
  const height = top + (windows.length + splits.length) * row + 34;
  const most = Math.max(1, ...windows.map((w) => w.rows));
  const ticks = Array.from({ length: 6 }, (_, i) => from + ((to - from) * i) / 5);
  return (
    <Sheet title={say("Windows of {{0}}", { 0: step.step })} aside={aside}>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        className="w-full text-[11px]"
        role="img"
        data-testid={`windows-${step.step}`}
        aria-label={say("{{0}} open windows of {{1}}; the watermark is at {{2}}", {
          0: windows.length,
          1: step.step,
          2: instant(mark),
        })}
      >
        {ticks.map((t) => (
          <g key={t}>
            <line x1={x(t)} x2={x(t)} y1={top - 6} y2={height - 18} className="stroke-line" />
            <text x={x(t)} y={12} textAnchor="middle" className="fill-soft">
              {clock(t)}
            </text>
          </g>
        ))}
        {windows.map((w, i) => (
          <Bar key={`${w.opens} ${w.key}`} w={w} y={top + i * row} x={x} most={most} />
        ))}
        {splits.map((s, i) => {
          const y = top + (windows.length + i) * row + 8;
          return (
            <g key={`${s.stream} ${s.split}`}>
              <text x={8} y={y + 8} className="fill-ink">
                {s.split}
                {s.idle ? say(" (idle)") : ""}
              </text>
              <line
                x1={x(s.watermark ?? s.newest_at!)}
                x2={x(s.newest_at!)}
                y1={y + 4}
                y2={y + 4}
                strokeWidth={3}
                className="stroke-sand-pale"
              />
              <circle
                cx={x(s.watermark ?? s.newest_at!)}
                cy={y + 4}
                r={4}
                className={s.idle ? "fill-soft/50" : "fill-river"}
              >
                <title>{say("watermark {{0}}", { 0: instant(s.watermark) })}</title>
              </circle>
              <circle cx={x(s.newest_at!)} cy={y + 4} r={4} className="fill-sand">
                <title>{say("newest event {{0}}", { 0: instant(s.newest_at) })}</title>
              </circle>
            </g>
          );
        })}
        {mark !== undefined && (
          <g>
            <line
              x1={x(mark)}
              x2={x(mark)}
              y1={top - 6}
              y2={height - 18}
              strokeDasharray="4 3"
              strokeWidth={1.5}
              className="stroke-river"
            />
            <text x={Math.min(x(mark), width - 120)} y={height - 5} textAnchor="middle" className="fill-river">
              {say("watermark {{0}}", { 0: clock(mark) })}
            </text>
          </g>
        )}
      </svg>
      <p className="border-t border-line px-4 py-2 text-xs text-soft">
        <Dot tone="bg-river-pale" /> {say("takes rows")} <Dot tone="bg-sand-pale" /> {say("given, takes corrections ")}
        <Dot tone="bg-river" /> {say("a split's watermark")} <Dot tone="bg-sand" /> {say("its newest event")}
        {(step.open_windows?.length ?? 0) > shown && (
          <span className="float-right">{say("the {{0}} that close last", { 0: shown })}</span>
        )}
      </p>
    </Sheet>
  );
}

const Dot = ({ tone }: { tone: string }) => (
  <span className={`ml-3 mr-1 inline-block size-2.5 rounded-full border border-line align-middle first:ml-0 ${tone}`} />
);

function Bar({ w, y, x, most }: { w: OpenWindow; y: number; x: (us: number) => number; most: number }) {
  const width = Math.max(2, x(w.closes) - x(w.opens));
  const name = w.key
    ? Object.values(JSON.parse(w.key) as Record<string, unknown>).join(", ")
    : `${clock(w.opens)} – ${clock(w.closes)}`;
  return (
    <g>
      <text x={8} y={y + 11} className="fill-ink">
        {name.slice(0, 30)}
      </text>
      <rect
        x={x(w.opens)}
        y={y + 2}
        width={width}
        height={12}
        rx={3}
        className={w.closed ? "fill-sand-pale stroke-sand/50" : "fill-river-pale stroke-river/40"}
      >
        <title>{`${instant(w.opens)} to ${instant(w.closes)}: ${count(w.rows)} rows`}</title>
      </rect>
      <rect
        x={x(w.opens)}
        y={y + 11}
        width={(width * w.rows) / most}
        height={3}
        rx={1}
        className={w.closed ? "fill-sand" : "fill-river"}
      />
      <text x={x(w.opens) + width + 5} y={y + 11} className="fill-soft">
        {count(w.rows)}
      </text>
    </g>
  );
}
