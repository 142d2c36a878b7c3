import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, type LagBucket, type Lateness } from "./api";
import { count, Empty, Fault, length, Rows, Sheet } from "./parts";
import { say } from "./i18n";

const share = (x: number) => `${(x * 100).toFixed(4).replace(/0+$/, "").replace(/\.$/, "")} %`;

/** A delay to a tenth of a second, for choosing one. */
const exact = (us: number) => (Math.abs(us) < 6e8 ? `${(us / 1e6).toFixed(1)} s` : length(us));

/** How far the rows of a stream lie behind, and what each delay would keep. */
export function LatenessPage() {
  const { name = "" } = useParams();
  const q = useQuery({ queryKey: ["lateness", name], queryFn: () => api.lateness(name), refetchInterval: 10_000 });
  const l = q.data;
  return (
    <div className="space-y-4">
      <div className="flex items-center gap-3">
        <Link to={`/declared/${encodeURIComponent(name)}`} className="text-soft hover:text-ink">
          {name}
        </Link>
        <span className="text-line">/</span>
        <h1 className="text-xl font-semibold">{say("How late the rows of {{0}} are", { 0: name })}</h1>
      </div>
      {q.error && <Fault>{q.error.message}</Fault>}
      {!l && !q.error && <p className="text-soft">{say("Reading the stream …")}</p>}
      {l && l.rows === 0 && (
        <Sheet>
          <Empty>{say("The stream has no rows yet.")}</Empty>
        </Sheet>
      )}
      {l && l.rows > 0 && (
        <>
          <p>
            <b>{count(l.rows)}</b> {say("rows. The declared delay of")} <b>{length(l.delay)}</b> {say("keeps ")}
            <b className={l.kept < 0.99 ? "text-clay" : "text-river"}>{share(l.kept)}</b>{" "}
            {say("of them; the latest row is {{0}} behind.", { 0: length(l.most) })}
          </p>
          <Sheet
            title={say("Rows kept by a delay")}
            aside={`how far ${l.event_time} lies behind the newest row of its split`}
          >
            <Curve l={l} />
          </Sheet>
          <Sheet title={say("Delays to choose from")}>
            <Rows
              testid="proposals"
              of={l.proposals}
              id={(p) => p.share}
              columns={[
                { head: say("To keep"), of: (p) => share(p.share) },
                { head: say("Delay"), mono: true, of: (p) => exact(p.delay) },
                {
                  head: say("Results come"),
                  of: (p) =>
                    p.waits > 0
                      ? `${exact(p.waits)} later than now`
                      : p.waits < 0
                        ? `${exact(-p.waits)} earlier than now`
                        : "as now",
                },
              ]}
            />
          </Sheet>
          <Sheet title={say("Splits")} aside="one that stands out has a slow link or a wrong clock">
            <Rows
              of={l.splits}
              id={(s) => s.split}
              columns={[
                { head: say("Split"), mono: true, of: (s) => s.split },
                { head: say("Rows"), right: true, of: (s) => count(s.rows) },
                { head: say("Kept"), right: true, of: (s) => share(s.kept) },
                { head: say("Half within"), right: true, of: (s) => length(s.half) },
                { head: say("99 % within"), right: true, of: (s) => length(s.most_99) },
                { head: say("Latest"), right: true, of: (s) => length(s.most) },
              ]}
            />
          </Sheet>
        </>
      )}
    </div>
  );
}

/** Bars of rows by lag on a logarithmic line, and over them the share that such a delay keeps. */
function Curve({ l }: { l: Lateness }) {
  const width = 960,
    height = 270,
    left = 56,
    right = 20,
    top = 18,
    bottom = 40;
  const least = 10_000,
    most = Math.max(l.most, l.delay, 10 * least) * 1.15; // microseconds
  const x = (us: number) =>
    left + (Math.log(Math.max(us, least) / least) / Math.log(most / least)) * (width - left - right);
  const y = (s: number) => height - bottom - s * (height - top - bottom);
  const bars = gathered(l.buckets, 48, least, most);
  const tallest = Math.max(1, ...bars.map((b) => b.rows));
  let kept = 0;
  const steps: [number, number][] = [];
  for (const b of l.buckets) {
    kept += b.rows;
    steps.push([b.up_to, kept / l.rows]);
  }
  const first = steps[0]?.[1] ?? 0;
  const path =
    `M${left},${y(l.buckets[0]?.up_to === 0 ? first : 0)} ` +
    steps.map(([u, s]) => `L${x(u).toFixed(1)},${y(s).toFixed(1)}`).join(" ") +
    ` L${width - right},${y(1)}`;
  const ticks = [10_000, 100_000, 1e6, 1e7, 6e7, 6e8, 3.6e9, 3.6e10].filter((t) => t < most);
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      className="w-full text-[11px]"
      role="img"
      data-testid="lateness"
      aria-label={say("share of rows kept by each delay; the declared one keeps {{0}}", { 0: share(l.kept) })}
    >
      {[0, 0.25, 0.5, 0.75, 1].map((s) => (
        <g key={s}>
          <line x1={left} x2={width - right} y1={y(s)} y2={y(s)} className="stroke-line" />
          <text x={left - 8} y={y(s) + 4} textAnchor="end" className="fill-soft">
            {s * 100} %
          </text>
        </g>
      ))}
      {bars.map((b) => (
        <rect
          key={b.from}
          x={x(b.from) + 0.5}
          width={Math.max(1, x(b.to) - x(b.from) - 1)}
          y={y(0) - (Math.sqrt(b.rows / tallest) * (height - top - bottom)) / 2}
          height={(Math.sqrt(b.rows / tallest) * (height - top - bottom)) / 2}
          className="fill-sand/45"
        >
          <title>{`${count(b.rows)} rows up to ${length(b.to)} behind`}</title>
        </rect>
      ))}
      <path d={path} fill="none" strokeWidth={2} className="stroke-river" />
      {ticks.map((t) => (
        <text key={t} x={x(t)} y={height - bottom + 16} textAnchor="middle" className="fill-soft">
          {length(t)}
        </text>
      ))}
      <text x={width - right} y={height - 6} textAnchor="end" className="fill-soft">
        {say("delay, or lag of a row (logarithmic); bars: rows of such a lag, by the square root")}
      </text>
      <line
        x1={x(l.delay)}
        x2={x(l.delay)}
        y1={top - 6}
        y2={y(0)}
        strokeDasharray="4 3"
        strokeWidth={1.5}
        className="stroke-clay"
      />
      <text x={x(l.delay) - 5} y={y(0.6)} textAnchor="end" className="fill-clay">
        {say("DELAY {{0}}", { 0: length(l.delay) })}
      </text>
      {l.proposals
        .filter((p) => p.share < 1)
        .map((p) => (
          <circle key={p.share} cx={x(p.delay)} cy={y(p.share)} r={4} className="fill-river">
            <title>{`${share(p.share)}: ${length(p.delay)}`}</title>
          </circle>
        ))}
    </svg>
  );
}

/** Buckets put together to at most n bars of equal width on the logarithmic line. */
function gathered(buckets: LagBucket[], n: number, least: number, most: number) {
  const edge = (i: number) => least * Math.pow(most / least, i / n);
  const out: { from: number; to: number; rows: number }[] = [];
  for (const b of buckets) {
    if (b.up_to === 0) continue; // rows that are not behind would hide all others
    const i = Math.min(
      n - 1,
      Math.max(0, Math.floor((Math.log(Math.max(b.up_to, least) / least) / Math.log(most / least)) * n)),
    );
    const last = out[out.length - 1];
    if (last && last.from === edge(i)) last.rows += b.rows;
    else out.push({ from: edge(i), to: edge(i + 1), rows: b.rows });
  }
  return out;
}
