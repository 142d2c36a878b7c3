// The form of a step on the canvas: its name, its clauses or its SQL, where its rows go, and its rows.
import { useState } from "react";
import type { BlockParts, Column, Drawing, Drawn } from "./api";
import { Clauses } from "./clauses";
import { called, shownSteps, withChanged, withRouteChanged, type Readable } from "./drawing";
import { Told, Part, drop, ConditionRow } from "./fields";
import { say } from "./i18n";
import { Button, Fault, Field } from "./parts";
import { Preview } from "./preview";
import { sqlPath } from "./sql";

export function StepForm({
  drawn,
  at,
  readable,
  locked,
  onPut,
  onRows,
  onSink,
}: {
  drawn: Drawn;
  at: number;
  readable: Readable[];
  locked: boolean;
  onPut: (next: Drawing, name?: string) => Promise<string>;
  onRows: (rows: Record<string, number>) => void;
  onSink: () => void;
}) {
  const d = { ...drawn.drawing, steps: shownSteps(drawn.drawing) };
  const step = d.steps[at]!;
  const name = called(d, step);
  const [tab, setTab] = useState<"form" | "sql">("form");
  const [text, setText] = useState(step.query);
  const [of, setOf] = useState(step.query);
  if (of !== step.query) {
    setOf(step.query);
    setText(step.query);
  }
  const [which, setWhich] = useState(0);
  const block = step.blocks[Math.min(which, step.blocks.length - 1)];
  const before = readable.filter((r) => {
    if (r.kind !== "step") return true;
    const k = d.steps.findIndex((s) => called(d, s) === r.name);
    return k >= 0 && k < at;
  });
  const columnsFrom = (n?: string) => before.find((r) => r.name === n)?.columns ?? [];
  const here: Column[] = block
    ? [
        ...columnsFrom(block.from.name).map((c) => ({
          ...c,
          name: block.joins.length > 0 ? `${block.from.alias ?? block.from.name}.${c.name}` : c.name,
        })),
        ...block.joins.flatMap((j) =>
          columnsFrom(j.with.name).map((c) => ({ ...c, name: `${j.with.alias ?? j.with.name}.${c.name}` })),
        ),
      ]
    : [];
  const change = (b: BlockParts) =>
    void onPut(withChanged(d, at, { blocks: step.blocks.map((x, i) => (i === which ? b : x)) }), name);
  const routes = d.routes.map((r, i) => ({ r, i })).filter(({ r }) => r.step === name);
  const own = drawn.steps[at]?.columns ?? [];
  return (
    <div className="space-y-4">
      <datalist id="columns-here">
        {here.map((c) => (
          <option key={c.name} value={sqlPath(c.name)}>
            {c.type}
          </option>
        ))}
      </datalist>
      <div className="flex items-end gap-2">
        <Field label={say("Step")}>
          <Told
            label={say("The step's name")}
            testid="step-name"
            disabled={locked}
            value={name}
            onTell={(n) => n.trim() && void onPut(withChanged(d, at, { name: n.trim() }), n.trim())}
          />
        </Field>
        <span className="ml-auto flex gap-1" role="group" aria-label={say("How the step is shown")}>
          <Button small kind={tab === "form" ? "main" : "plain"} onClick={() => setTab("form")}>
            {say("Form")}
          </Button>
          <Button small testid="step-as-sql" kind={tab === "sql" ? "main" : "plain"} onClick={() => setTab("sql")}>
            {say("SQL")}
          </Button>
        </span>
      </div>
      {drawn.steps[at]?.problem && <Fault>{drawn.steps[at]!.problem}</Fault>}
      {tab === "sql" || !block ? (
        <div className="space-y-2">
          <textarea
            aria-label={say("The step as SQL")}
            data-testid="step-sql"
            className="h-52 w-full rounded-md border border-line bg-sheet p-2 font-mono text-xs"
            value={text}
            readOnly={locked}
            onChange={(e) => setText(e.target.value)}
          />
          <Button
            small
            kind="main"
            testid="take-sql"
            disabled={locked || text === step.query}
            onClick={() => void onPut(withChanged(d, at, { query: text }), name)}
          >
            {say("Take it")}
          </Button>
        </div>
      ) : (
        <>
          {step.blocks.length > 1 && (
            <div className="flex flex-wrap gap-1" role="group" aria-label={say("What is put together")}>
              {step.blocks.map((b, i) => (
                <Button key={i} small kind={i === which ? "main" : "plain"} onClick={() => setWhich(i)}>
                  {b.from.name ?? `part ${i + 1}`}
                </Button>
              ))}
              {!locked && (
                <Button
                  small
                  onClick={() =>
                    void onPut(withChanged(d, at, { blocks: step.blocks.filter((_, i) => i !== which) }), name)
                  }
                >
                  {say("Drop this part")}
                </Button>
              )}
            </div>
          )}
          <Clauses block={block} before={before} here={here} own={own} locked={locked} onChange={change} />
          <Part
            title={say("Where its rows go")}
            aside={
              !locked && (
                <Button small onClick={onSink}>
                  {say("Send to …")}
                </Button>
              )
            }
          >
            {routes.length === 0 && <p className="text-xs text-soft">{say("To no sink; other steps may read it.")}</p>}
            {routes.map(({ r, i }) => (
              <div key={i} className="space-y-1.5 rounded-md border border-line p-2">
                {r.kind && <p className="text-xs text-soft">{say("its {{0}} rows", { 0: r.kind })}</p>}
                {r.branches.map((b, k) => (
                  <div key={k} className="space-y-1">
                    {b.where ? (
                      <ConditionRow
                        label={say("Condition {{0}} of the route", { 0: k + 1 })}
                        expr={b.where}
                        columns={own}
                        locked={locked}
                        onTell={(where) =>
                          void onPut(
                            withRouteChanged(d, i, {
                              ...r,
                              branches: r.branches.map((x, n) => (n === k ? { ...x, where } : x)),
                            }),
                          )
                        }
                      />
                    ) : (
                      <p className="text-xs text-soft">{r.branches.length > 1 ? say("all others") : say("all rows")}</p>
                    )}
                    <p className="flex items-center gap-1 text-xs">
                      {say("to")} <b>{b.sinks.join(", ")}</b>
                      {!locked &&
                        drop(
                          `Drop the way to ${b.sinks.join(", ")}`,
                          () =>
                            void onPut(
                              withRouteChanged(d, i, { ...r, branches: r.branches.filter((_, n) => n !== k) }),
                              name,
                            ),
                        )}
                    </p>
                  </div>
                ))}
              </div>
            ))}
          </Part>
        </>
      )}
      <Preview
        query={step.preview ?? ""}
        before={d.before ?? ""}
        step={name}
        reads={step.reads ?? []}
        named={step.name !== "" || d.job}
        wrong={!!drawn.steps[at]?.problem}
        onRows={onRows}
      />
    </div>
  );
}
