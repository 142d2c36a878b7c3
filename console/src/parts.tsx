// Small parts that several pages use.
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { Component, useLayoutEffect, useRef, useState, type ReactNode } from "react";
import { moment } from "./zone";
import { locale, say } from "./i18n";

const stateStyle: Record<string, string> = {
  running: "bg-river-pale text-river",
  starting: "bg-sand-pale text-sand",
  stopping: "bg-sand-pale text-sand",
  retrying: "bg-clay-pale text-clay",
  failed: "bg-clay-pale text-clay",
  stopped: "bg-line text-soft",
  finished: "bg-line text-ink",
};

export function State({ state }: { state: string }) {
  return (
    <span
      className={`inline-flex items-center gap-1.5 rounded-full px-2.5 py-0.5 text-xs font-medium ${stateStyle[state] ?? "bg-line"}`}
    >
      <span className={`size-1.5 rounded-full bg-current ${state === "running" ? "animate-pulse" : ""}`} />
      {state}
    </span>
  );
}

/** What may be wider, or, where a class bounds it, higher than its place: it can then be moved with the keyboard too. */
export function Scroll({
  children,
  className = "",
  as = "div",
  "data-testid": testid,
}: {
  children: ReactNode;
  className?: string;
  as?: "div" | "pre";
  "data-testid"?: string;
}) {
  const box = useRef<HTMLDivElement & HTMLPreElement>(null);
  const [wide, setWide] = useState(false);
  // Before it is drawn: nobody meets a region that cannot be moved with the keyboard, be it for a moment.
  useLayoutEffect(() => {
    const el = box.current!;
    const look = () => setWide(el.scrollWidth > el.clientWidth || el.scrollHeight > el.clientHeight + 1);
    const watch = new ResizeObserver(look);
    watch.observe(el);
    for (const c of el.children) watch.observe(c);
    look();
    return () => watch.disconnect();
  }, [children]);
  const more = {
    "data-testid": testid,
    className: `${className.includes("max-h-") ? "overflow-auto" : "overflow-x-auto"} ${className}`,
    ...(wide ? { tabIndex: 0, role: "group", "aria-label": "larger than its place" } : {}),
  };
  return as === "pre" ? (
    <pre ref={box} {...more}>
      {children}
    </pre>
  ) : (
    <div ref={box} {...more}>
      {children}
    </div>
  );
}

export function Sheet({ title, aside, children }: { title?: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="min-w-0 rounded-lg border border-line bg-sheet">
      {title && (
        <header className="flex items-center justify-between gap-4 border-b border-line px-4 py-2.5">
          <h2 className="text-sm font-semibold">{title}</h2>
          <div className="text-xs text-soft">{aside}</div>
        </header>
      )}
      <Scroll>{children}</Scroll>
    </section>
  );
}

export function Empty({ children }: { children: ReactNode }) {
  return <p className="px-4 py-8 text-center text-soft">{children}</p>;
}

/** Keeps a fault in the drawing of one part from taking the whole page away: it is told in its place, until what is drawn changes. */
export class Guard extends Component<
  { children: ReactNode; what: string; of: unknown },
  { fault?: string; of?: unknown }
> {
  override state: { fault?: string; of?: unknown } = {};
  static getDerivedStateFromError = (e: unknown) => ({ fault: e instanceof Error ? e.message : String(e) });
  static getDerivedStateFromProps = (p: { of: unknown }, s: { of?: unknown }) =>
    p.of === s.of ? null : { fault: undefined, of: p.of };
  override render() {
    if (this.state.fault === undefined) return this.props.children;
    return <Fault>{say("{{0}} cannot be drawn: {{1}}", { 0: this.props.what, 1: this.state.fault })}</Fault>;
  }
}

export function Fault({ children }: { children: ReactNode }) {
  return (
    <div
      role="alert"
      className="whitespace-pre-wrap rounded-lg border border-clay/40 bg-clay-pale px-4 py-3 font-mono text-xs leading-relaxed text-clay"
    >
      {children}
    </div>
  );
}

export function Th({ children, right }: { children?: ReactNode; right?: boolean }) {
  return (
    <th
      scope="col"
      className={`px-3 py-2 text-xs font-medium whitespace-nowrap text-soft ${right ? "text-right" : "text-left"}`}
    >
      {children}
    </th>
  );
}

export function Td({
  children,
  right,
  mono,
  wide,
}: {
  children?: ReactNode;
  right?: boolean;
  mono?: boolean;
  wide?: boolean;
}) {
  return (
    <td
      className={`border-t border-line/70 px-3 py-1.5 align-top ${right ? "text-right tabular-nums" : ""} ${mono ? "font-mono text-xs" : ""} ${wide ? "break-all" : "whitespace-nowrap"}`}
    >
      {children}
    </td>
  );
}

/** A column of a table. */
export type Cells<T> = {
  head?: ReactNode;
  of: (row: T, index: number) => ReactNode;
  right?: boolean;
  mono?: boolean;
  /** Breaks anywhere, instead of staying on one line. */
  wide?: boolean;
  /** Breaks between words; styles that the cell has beside the usual ones. */
  wrap?: string;
};

/** A table: a row for each element. */
export function Rows<T>({
  of,
  columns,
  id,
  testid,
}: {
  of: T[];
  columns: Cells<T>[];
  id: (row: T, index: number) => string | number;
  testid?: string;
}) {
  return (
    <table className="w-full" data-testid={testid}>
      <thead>
        <tr>
          {columns.map((c, k) => (
            <Th key={k} right={c.right}>
              {c.head}
            </Th>
          ))}
        </tr>
      </thead>
      <tbody>
        {of.map((row, i) => (
          <tr key={id(row, i)} className="hover:bg-paper/70">
            {columns.map((c, k) =>
              c.wrap === undefined ? (
                <Td key={k} right={c.right} mono={c.mono} wide={c.wide}>
                  {c.of(row, i)}
                </Td>
              ) : (
                <td key={k} className={`border-t border-line/70 px-3 py-1.5 align-top ${c.wrap}`}>
                  {c.of(row, i)}
                </td>
              ),
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

export function Button({
  children,
  onClick,
  kind = "plain",
  disabled,
  testid,
  small,
}: {
  children: ReactNode;
  onClick: () => void;
  kind?: "plain" | "main" | "danger";
  disabled?: boolean;
  testid?: string;
  small?: boolean;
}) {
  const style = {
    plain: "border-line bg-sheet hover:bg-paper",
    main: "border-river bg-river text-on-river hover:bg-river/90",
    danger: "border-clay/50 bg-sheet text-clay hover:bg-clay-pale",
  }[kind];
  return (
    <button
      type="button"
      data-testid={testid}
      disabled={disabled}
      onClick={onClick}
      className={`cursor-pointer rounded-md border font-medium whitespace-nowrap ${small ? "px-2 py-0.5 text-xs" : "px-3 py-1.5 text-sm"} disabled:cursor-default disabled:opacity-45 ${style}`}
    >
      {children}
    </button>
  );
}

export function Field({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="flex min-w-0 flex-col gap-1 text-xs text-soft">
      {label}
      {children}
    </label>
  );
}

const inputStyle = "h-9 rounded-md border border-line bg-sheet px-2 py-1.5 text-sm text-ink";

export function Input(p: React.InputHTMLAttributes<HTMLInputElement> & { testid?: string }) {
  const { testid, className = "", ...rest } = p;
  return <input {...rest} data-testid={testid} className={`${inputStyle} ${className}`} />;
}

export function Select(p: React.SelectHTMLAttributes<HTMLSelectElement> & { testid?: string }) {
  const { testid, className = "", ...rest } = p;
  return <select {...rest} data-testid={testid} className={`${inputStyle} ${className}`} />;
}

/** A window over the page. */
export function Panel({
  open,
  title,
  children,
  onClose,
  wide,
}: {
  open: boolean;
  title: ReactNode;
  children: ReactNode;
  onClose: () => void;
  wide?: boolean;
}) {
  return (
    <Dialog open={open} onClose={onClose} className="relative z-20">
      <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
      <div className="fixed inset-0 flex items-start justify-center overflow-y-auto p-4 sm:p-8">
        <DialogPanel
          className={`w-full rounded-lg border border-line bg-sheet shadow-lg ${wide ? "max-w-5xl" : "max-w-xl"}`}
        >
          <div className="flex items-center justify-between border-b border-line px-5 py-3">
            <DialogTitle className="text-base font-semibold">{title}</DialogTitle>
            <Button onClick={onClose}>{say("Close")}</Button>
          </div>
          <div className="space-y-4 p-5">{children}</div>
        </DialogPanel>
      </div>
    </Dialog>
  );
}

/** The errors of an SQL text, each with its place and the way out. */
export function Diagnostics({
  list,
}: {
  list: { line: number; column: number; code: string; message: string; hint?: string }[];
}) {
  if (list.length === 0) return null;
  return (
    <div
      role="alert"
      data-testid="diagnostics"
      className="rounded-lg border border-clay/40 bg-clay-pale px-4 py-3 font-mono text-xs text-clay"
    >
      <ul className="space-y-1">
        {list.map((d, i) => (
          <li key={i}>
            {d.line}:{d.column} {d.message} <span className="italic">[{d.code}]</span>
            {d.hint && <div className="pl-6 text-ink">{d.hint}</div>}
          </li>
        ))}
      </ul>
    </div>
  );
}

export function Confirm({
  open,
  title,
  children,
  action,
  onClose,
}: {
  open: boolean;
  title: string;
  children: ReactNode;
  action: { label: string; run: () => void };
  onClose: () => void;
}) {
  return (
    <Dialog open={open} onClose={onClose} className="relative z-10">
      <div className="fixed inset-0 bg-ink/30" aria-hidden="true" />
      <div className="fixed inset-0 flex items-center justify-center p-6">
        <DialogPanel className="w-full max-w-md rounded-lg border border-line bg-sheet p-5 shadow-lg">
          <DialogTitle className="text-base font-semibold">{title}</DialogTitle>
          <div className="mt-2 text-soft">{children}</div>
          <div className="mt-5 flex justify-end gap-2">
            <Button onClick={onClose}>{say("Cancel")}</Button>
            <Button
              kind="danger"
              onClick={() => {
                action.run();
                onClose();
              }}
            >
              {action.label}
            </Button>
          </div>
        </DialogPanel>
      </div>
    </Dialog>
  );
}

export const count = (n: number) => n.toLocaleString(locale);

export function bytes(n: number): string {
  if (n < 1000) return `${n} B`;
  if (n < 1e6) return `${(n / 1e3).toFixed(1)} kB`;
  if (n < 1e9) return `${(n / 1e6).toFixed(1)} MB`;
  return `${(n / 1e9).toFixed(2)} GB`;
}

export function length(us: number): string {
  const s = us / 1e6;
  if (s < 1) return `${Math.round(s * 1000)} ms`;
  if (s < 120) return `${s.toFixed(1)} s`;
  if (s < 7200) return `${Math.round(s / 60)} min`;
  return `${(s / 3600).toFixed(1)} h`;
}

export function ago(iso: string): string {
  const s = Math.max(0, (Date.now() - new Date(iso).getTime()) / 1000);
  if (s < 60) return say("{{0}} s ago", { 0: Math.round(s) });
  if (s < 3600) return say("{{0}} min ago", { 0: Math.round(s / 60) });
  if (s < 172800) return say("{{0}} h ago", { 0: Math.round(s / 3600) });
  return moment(iso).slice(0, 10);
}

/** A cell of a result row. */
export function cell(v: unknown): ReactNode {
  if (v === null || v === undefined) return <span className="text-soft italic">{say("null")}</span>;
  if (typeof v === "object") return JSON.stringify(v);
  return String(v);
}
