// The rows of a step of a running job as they stand, all or those of a key.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Row } from "./api";
import { Button, count, Empty, Fault, Field, Input, Panel } from "./parts";
import { Results } from "./results";
import { say } from "./i18n";

const most = 500;

export function PresentPanel({ job, step, onClose }: { job: string; step: string; onClose: () => void }) {
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [where, setWhere] = useState<string[]>([]);
  const found = useQuery({
    queryKey: ["present", job, step, where],
    queryFn: () => api.present(job, step, where, most),
    placeholderData: (before) => before,
  });
  const p = found.data;
  const look = () =>
    setWhere(
      Object.entries(typed)
        .filter(([, v]) => v !== "")
        .map(([k, v]) => `${k}=${v}`),
    );
  return (
    <Panel open wide title={say("{{0}}, as it stands", { 0: step })} onClose={onClose}>
      <p className="text-soft">
        {say(
          "What {{0}} would give if all its windows ended now; a table, its rows. It is looked at every two seconds.",
          { 0: step },
        )}
      </p>
      {p && p.keys.length > 0 && (
        <form
          className="flex flex-wrap items-end gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            look();
          }}
        >
          {p.keys.map((k) => (
            <Field key={k} label={k}>
              <Input
                testid={`key-${k}`}
                value={typed[k] ?? ""}
                placeholder={say("any")}
                onChange={(e) => setTyped({ ...typed, [k]: e.target.value })}
              />
            </Field>
          ))}
          <Button testid="find" onClick={look}>
            {say("Find")}
          </Button>
        </form>
      )}
      {found.error && <Fault>{found.error.message}</Fault>}
      {!p && !found.error && <p className="text-soft">{say("Loading …")}</p>}
      {p && !found.error && (
        <div data-testid="present">
          {p.rows.length === 0 ? (
            <Empty>{where.length > 0 ? say("There is no such row.") : say("There are no rows yet.")}</Empty>
          ) : (
            <Results
              columns={p.columns}
              rows={p.rows as Row[]}
              total={p.rows.length}
              note={p.more ? `There are more than ${count(most)}; find one by its key.` : undefined}
            />
          )}
        </div>
      )}
    </Panel>
  );
}
