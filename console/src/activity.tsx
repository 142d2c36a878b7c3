// Who did what when, with the text of each version and how it differs from the one before.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Activity, type Version } from "./api";
import { Button, Empty, Fault, Panel, Rows, Scroll, Sheet } from "./parts";
import { moment, useZone } from "./zone";
import { say } from "./i18n";

export function ActivityPage() {
  return (
    <div className="space-y-4">
      <h1 className="text-xl font-semibold">{say("Activity")}</h1>
      <Log />
    </div>
  );
}

/** The activity log, of one object or of all. */
export function Log({ object }: { object?: string }) {
  useZone();
  const [pages, setPages] = useState<number[]>([]);
  const activity = useQuery({
    queryKey: ["activity", object, pages.at(-1)],
    queryFn: () => api.activity(object, pages.at(-1)),
  });
  const [open, setOpen] = useState<Activity>();
  return (
    <>
      {activity.error && <Fault>{activity.error.message}</Fault>}
      <Sheet>
        {activity.data?.items.length === 0 ? (
          <Empty>{say("Nothing has been done yet.")}</Empty>
        ) : (
          <Rows
            testid="activity"
            of={activity.data?.items ?? []}
            id={(a) => a.id}
            columns={[
              { head: say("When"), mono: true, of: (a) => moment(a.at).slice(0, 19) },
              { head: say("Who"), of: (a) => a.actor },
              { head: say("Did"), of: (a) => a.action },
              {
                head: say("To"),
                of: (a) =>
                  ["created", "replaced", "started", "stopped", "retrying", "changed", "finished"].includes(a.action) &&
                  !a.object.includes(" ") ? (
                    <Link
                      className="font-medium text-river hover:underline"
                      to={`/jobs/${encodeURIComponent(a.object)}`}
                    >
                      {a.object}
                    </Link>
                  ) : (
                    <span className="font-medium">{a.object}</span>
                  ),
              },
              {
                head: say("Detail"),
                wrap: "w-full max-w-0 min-w-44",
                of: (a) =>
                  a.detail && (
                    <button
                      type="button"
                      className="block w-full cursor-pointer truncate text-left font-mono text-xs text-soft hover:text-ink"
                      onClick={() => setOpen(a)}
                    >
                      {a.detail}
                    </button>
                  ),
              },
            ]}
          />
        )}
        {(pages.length > 0 || activity.data?.next) && (
          <div className="flex gap-2 border-t border-line px-4 py-2">
            <Button small disabled={pages.length === 0} onClick={() => setPages((p) => p.slice(0, -1))}>
              {say("Newer")}
            </Button>
            <Button
              small
              disabled={!activity.data?.next}
              onClick={() => setPages((p) => [...p, Number(activity.data!.next)])}
            >
              {say("Older")}
            </Button>
          </div>
        )}
      </Sheet>
      <Panel
        open={open !== undefined}
        wide
        title={open ? `${open.actor} ${open.action} ${open.object}` : ""}
        onClose={() => setOpen(undefined)}
      >
        <Scroll as="pre" className="rounded-lg border border-line bg-paper p-3 font-mono text-xs whitespace-pre-wrap">
          {open?.detail}
        </Scroll>
      </Panel>
    </>
  );
}

type Line = { sign: " " | "+" | "-"; text: string };

/** The lines that two texts share, and those that only one has (longest common subsequence). */
export function differences(a: string, b: string): Line[] {
  const x = a.split("\n"),
    y = b.split("\n");
  const best = Array.from({ length: x.length + 1 }, () => new Array<number>(y.length + 1).fill(0));
  for (let i = x.length - 1; i >= 0; i--)
    for (let j = y.length - 1; j >= 0; j--)
      best[i]![j] = x[i] === y[j] ? best[i + 1]![j + 1]! + 1 : Math.max(best[i + 1]![j]!, best[i]![j + 1]!);
  const out: Line[] = [];
  for (let i = 0, j = 0; i < x.length || j < y.length;) {
    if (i < x.length && j < y.length && x[i] === y[j]) {
      out.push({ sign: " ", text: x[i]! });
      i++;
      j++;
    } else if (j >= y.length || (i < x.length && best[i + 1]![j]! >= best[i]![j + 1]!))
      out.push({ sign: "-", text: x[i++]! });
    else out.push({ sign: "+", text: y[j++]! });
  }
  return out;
}

/** How a version differs from another. */
export function VersionDiff({ from, to }: { from: Version; to: Version }) {
  return (
    <Scroll
      as="pre"
      data-testid="diff"
      className="rounded-lg border border-line bg-paper p-3 font-mono text-xs leading-relaxed"
    >
      {differences(from.sql, to.sql).map((l, i) => (
        <div
          key={i}
          className={l.sign === "+" ? "bg-river-pale text-river" : l.sign === "-" ? "bg-clay-pale text-clay" : ""}
        >
          {l.sign} {l.text}
        </div>
      ))}
    </Scroll>
  );
}
