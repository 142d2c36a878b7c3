// What lies behind an endpoint, or where a sink writes: directories, files, and tables with their partitions and snapshots.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { above } from "./addresses";
import { api } from "./api";
import { ago, bytes, count, Empty, Fault, Rows, Scroll, Sheet } from "./parts";
import { say } from "./i18n";

export function Looking({ via, start, quiet }: { via?: string; start: string; quiet?: boolean }) {
  const [address, setAddress] = useState(start);
  const look = useQuery({
    queryKey: ["look", via, address],
    queryFn: () => api.look(via, address),
    refetchInterval: 10_000,
    retry: false,
  });
  const b = look.data;
  if (!b && (quiet || !look.error)) return null;
  const ways = address === start ? [] : above(start, address);
  return (
    <>
      <Sheet
        title={say("What lies there")}
        aside={
          <span className="flex flex-wrap gap-1">
            {ways.map((w) => (
              <button
                key={w}
                type="button"
                className="cursor-pointer text-river hover:underline"
                onClick={() => setAddress(w)}
              >
                {w === start ? start || "top" : w.slice(w.lastIndexOf("/", w.length - 2) + 1)}
              </button>
            ))}
            <span className="font-mono">{address}</span>
          </span>
        }
      >
        {look.error ? (
          <div className="p-3">
            <Fault>{look.error.message}</Fault>
          </div>
        ) : (
          <>
            {b?.facts && b.facts.length > 0 && (
              <dl className="flex flex-wrap gap-x-8 gap-y-2 px-4 py-3" data-testid="facts">
                {b.facts.map((f) => (
                  <div key={f.name}>
                    <dt className="text-xs text-soft">{f.name === "bytes" ? say("size") : f.name}</dt>
                    <dd>{/^\d+$/.test(f.value) ? (f.name === "bytes" ? bytes : count)(Number(f.value)) : f.value}</dd>
                  </div>
                ))}
              </dl>
            )}
            {b && b.entries.length > 0 && (
              <Rows
                testid="entries"
                of={b.entries}
                id={(e) => e.name}
                columns={[
                  {
                    head: say("Address"),
                    of: (e) =>
                      e.name === address ? (
                        e.name
                      ) : (
                        <button
                          type="button"
                          className="cursor-pointer text-left text-river hover:underline"
                          onClick={() => setAddress(e.name)}
                        >
                          {e.name.startsWith(address) ? e.name.slice(address.length).replace(/^\//, "") : e.name}
                        </button>
                      ),
                  },
                  { head: say("Kind"), of: (e) => <span className="text-soft">{e.kind}</span> },
                  { head: say("Size"), right: true, of: (e) => (e.kind === "file" ? bytes(e.size ?? 0) : "") },
                  {
                    head: say("Changed"),
                    of: (e) => <span className="text-soft">{e.changed ? ago(e.changed) : ""}</span>,
                  },
                ]}
              />
            )}
            {b && b.entries.length === 0 && !b.facts && <Empty>{say("There is nothing in it yet.")}</Empty>}
            {b?.more && (
              <p className="border-t border-line px-4 py-2 text-soft">{say("There is more than is shown.")}</p>
            )}
          </>
        )}
      </Sheet>
      {b && (b.columns || (b.parts?.length ?? 0) > 1 || b.snapshots) && (
        <div className="grid gap-4 lg:grid-cols-2">
          {b.columns && (
            <Sheet title={say("Columns")} aside="as they lie there">
              <Scroll className="max-h-96">
                <Rows
                  testid="lying-columns"
                  of={b.columns}
                  id={(c) => c.name}
                  columns={[
                    { head: say("Column"), of: (c) => <span className="font-medium">{c.name}</span> },
                    { head: say("Type"), wrap: "font-mono text-xs", of: (c) => c.type },
                    {
                      of: (c) => (
                        <span className="text-soft">
                          {[c.key && "key", c.not_null && "not null"].filter(Boolean).join(", ")}
                        </span>
                      ),
                    },
                  ]}
                />
              </Scroll>
            </Sheet>
          )}
          {b.parts && b.parts.length > 1 && (
            <Sheet title={say("Partitions")} aside={count(b.parts.length)}>
              <Scroll className="max-h-96">
                <Rows
                  testid="partitions"
                  of={b.parts}
                  id={(p) => p.name}
                  columns={[
                    { head: say("Partition"), of: (p) => <span className="font-medium">{p.name}</span> },
                    { head: say("Rows"), right: true, of: (p) => count(p.rows) },
                    { head: say("Files"), right: true, of: (p) => count(p.files) },
                    { head: say("Size"), right: true, of: (p) => bytes(p.bytes) },
                  ]}
                />
              </Scroll>
            </Sheet>
          )}
          {b.snapshots && (
            <Sheet title={say("Snapshots")} aside="the newest first">
              <Scroll className="max-h-96">
                <Rows
                  testid="snapshots"
                  of={b.snapshots}
                  id={(s) => s.id}
                  columns={[
                    { head: say("Snapshot"), mono: true, of: (s) => s.id },
                    { head: say("Taken"), of: (s) => <span className="text-soft">{ago(s.at)}</span> },
                    { head: say("Did"), of: (s) => s.what },
                    { head: say("Added"), right: true, of: (s) => (s.added ? count(Number(s.added)) : "") },
                    { head: say("Deletes"), right: true, of: (s) => (s.deletes ? count(Number(s.deletes)) : "") },
                  ]}
                />
              </Scroll>
            </Sheet>
          )}
        </div>
      )}
    </>
  );
}
