// Fields of the forms on the canvas: texts that are taken when they are left, conditions, lengths of time.
import { useState, type ReactNode } from "react";
import type { Column } from "./api";
import { conditionOf, plain, relations, sortOf } from "./drawing";
import { say } from "./i18n";
import { Input, Select } from "./parts";
import { sqlPath } from "./sql";

/** An input whose text is taken when it is left, or with Enter. */
export function Told({
  value,
  onTell,
  label,
  testid,
  list,
  disabled,
  mono,
  placeholder,
}: {
  value: string;
  onTell: (v: string) => void;
  label: string;
  testid?: string;
  list?: string;
  disabled?: boolean;
  mono?: boolean;
  placeholder?: string;
}) {
  const [now, setNow] = useState(value);
  const [of, setOf] = useState(value);
  if (of !== value) {
    setOf(value);
    setNow(value);
  }
  const tell = () => now !== value && onTell(now);
  return (
    <Input
      aria-label={label}
      testid={testid}
      list={list}
      disabled={disabled}
      placeholder={placeholder}
      className={`w-full min-w-0 ${mono ? "font-mono !text-xs" : ""}`}
      value={now}
      onChange={(e) => setNow(e.target.value)}
      onBlur={tell}
      onKeyDown={(e) => e.key === "Enter" && tell()}
    />
  );
}

export function Part({ title, children, aside }: { title: string; children: ReactNode; aside?: ReactNode }) {
  return (
    <fieldset className="min-w-0 space-y-2">
      <legend className="mb-1 flex w-full items-center text-xs font-semibold">
        <span>{title}</span>
        <span className="ml-auto">{aside}</span>
      </legend>
      {children}
    </fieldset>
  );
}

export const drop = (label: string, run: () => void, disabled?: boolean) => (
  <button
    type="button"
    aria-label={label}
    title={label}
    disabled={disabled}
    onClick={run}
    className="cursor-pointer rounded px-1.5 text-soft hover:text-clay disabled:opacity-40"
  >
    ✕
  </button>
);

/** One condition: in plain words where it is a plain one, else as SQL. */
export function ConditionRow({
  expr,
  columns,
  label,
  locked,
  onTell,
  onDrop,
}: {
  expr: string;
  columns: Column[];
  label: string;
  locked?: boolean;
  onTell: (expr: string) => void;
  onDrop?: () => void;
}) {
  const p = plain(expr);
  const [byHand, setByHand] = useState(false);
  const type = p ? (columns.find((c) => sqlPath(c.name) === p.column || c.name === p.column)?.type ?? "") : "";
  const known = p && type !== "" && relations[sortOf(type)].some(([is]) => is === p.is);
  return (
    <div className="flex items-center gap-1">
      {known && !byHand ? (
        <>
          <Select
            aria-label={say("{{0}}: column", { 0: label })}
            testid="condition-column"
            className="w-32 shrink-0"
            disabled={locked}
            value={p.column}
            onChange={(e) => {
              const t = columns.find((c) => sqlPath(c.name) === e.target.value)?.type ?? "";
              const fits = relations[sortOf(t)].some(([is]) => is === p.is);
              onTell(
                fits && sortOf(t) === sortOf(type)
                  ? conditionOf({ ...p, column: e.target.value }, t)
                  : `${e.target.value} IS NOT NULL`,
              );
            }}
          >
            {columns.map((c) => (
              <option key={c.name} value={sqlPath(c.name)}>
                {c.name}
              </option>
            ))}
          </Select>
          <Select
            aria-label={say("{{0}}: relation", { 0: label })}
            testid="condition-is"
            disabled={locked}
            value={p.is}
            onChange={(e) => {
              const is = e.target.value;
              const value =
                p.value || (sortOf(type) === "number" ? "0" : sortOf(type) === "time" ? "2026-01-01 00:00:00" : "");
              onTell(conditionOf({ ...p, is, value }, type));
            }}
          >
            {relations[sortOf(type)].map(([is, words]) => (
              <option key={is} value={is}>
                {words}
              </option>
            ))}
          </Select>
          {!p.is.startsWith("IS") && (
            <Told
              label={say("{{0}}: value", { 0: label })}
              testid="condition-value"
              disabled={locked}
              value={p.value}
              onTell={(value) => onTell(conditionOf({ ...p, value }, type))}
            />
          )}
        </>
      ) : (
        <Told
          label={label}
          testid="condition"
          mono
          disabled={locked}
          list="columns-here"
          value={expr}
          onTell={onTell}
        />
      )}
      {known && (
        <button
          type="button"
          className="cursor-pointer text-[11px] text-soft hover:text-river"
          aria-label={`${label}: ${byHand ? "in plain words" : "as SQL"}`}
          onClick={() => setByHand(!byHand)}
        >
          {byHand ? say("plain") : say("SQL")}
        </button>
      )}
      {onDrop && !locked && drop(`Drop ${label}`, onDrop)}
    </div>
  );
}

const units = ["SECONDS", "MINUTES", "HOURS", "DAYS"];

/** A length of time. */
export function Length({
  value,
  label,
  testid,
  locked,
  onTell,
}: {
  value: string;
  label: string;
  testid?: string;
  locked?: boolean;
  onTell: (v: string) => void;
}) {
  const m = /^(\d+) (SECOND|MINUTE|HOUR|DAY)S?$/.exec(value);
  if (!m) return <Told label={label} testid={testid} disabled={locked} mono value={value} onTell={onTell} />;
  return (
    <span className="flex gap-1">
      <Told
        label={say("{{0}}: how many", { 0: label })}
        testid={testid}
        disabled={locked}
        value={m[1]!}
        onTell={(n) => /^[1-9]\d*$/.test(n) && onTell(`${n} ${m[2]}S`)}
      />
      <Select
        aria-label={say("{{0}}: unit", { 0: label })}
        disabled={locked}
        value={`${m[2]}S`}
        onChange={(e) => onTell(`${m[1]} ${e.target.value}`)}
      >
        {units.map((u) => (
          <option key={u} value={u}>
            {u.toLowerCase()}
          </option>
        ))}
      </Select>
    </span>
  );
}
