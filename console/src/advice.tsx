// What in the running service wants somebody, and what to do.
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Finding } from "./api";
import { Button, Empty, Fault, Sheet } from "./parts";
import { say } from "./i18n";

const graves: { grave: Finding["grave"]; title: string; about: string; colour: string }[] = [
  { grave: "broken", title: say("Broken"), about: say("does not work, or is about not to"), colour: "text-clay" },
  {
    grave: "costly",
    title: say("Costly"),
    about: say("rows are lost or kept waiting, or more is held than need be"),
    colour: "text-sand",
  },
  { grave: "tidying", title: say("To tidy"), about: say("nothing is wrong yet"), colour: "text-soft" },
];

/** Where a finding leads. */
function place(f: Finding): string | undefined {
  const n = encodeURIComponent(f.name ?? "");
  if (f.of === "job") return `/jobs/${n}`;
  if (f.of === "topic") return `/topics/${n}`;
  if (f.of === "stream") return `/streams/${n}/lateness`;
  return undefined;
}

export function AdvicePage() {
  const advice = useQuery({ queryKey: ["advice"], queryFn: () => api.advice(true), refetchInterval: 60_000 });
  return (
    <div className="space-y-4">
      <div className="flex items-center gap-3">
        <h1 className="text-xl font-semibold">{say("Advice")}</h1>
        <span className="ml-auto">
          <Button testid="look-again" disabled={advice.isFetching} onClick={() => void advice.refetch()}>
            {advice.isFetching ? say("Looking …") : say("Look again")}
          </Button>
        </span>
      </div>
      {advice.error && <Fault>{advice.error.message}</Fault>}
      {advice.data?.length === 0 && (
        <Sheet>
          <Empty>{say("Nothing wants anybody.")}</Empty>
        </Sheet>
      )}
      {graves.map((g) => {
        const of = advice.data?.filter((f) => f.grave === g.grave) ?? [];
        if (of.length === 0) return null;
        return (
          <Sheet key={g.grave} title={<span className={g.colour}>{g.title}</span>} aside={g.about}>
            <ul data-testid={`advice-${g.grave}`}>
              {of.map((f, i) => {
                const to = place(f);
                return (
                  <li key={i} className="space-y-1 border-t border-line/70 px-4 py-3 first:border-t-0">
                    <p>
                      {to && (
                        <>
                          <Link className="font-medium text-river hover:underline" to={to}>
                            {f.name}
                          </Link>{" "}
                        </>
                      )}
                      {f.what}
                    </p>
                    <p className="text-soft">{f.do}</p>
                    {f.run && <p className="font-mono text-xs text-soft select-all">{f.run}</p>}
                  </li>
                );
              })}
            </ul>
          </Sheet>
        );
      })}
    </div>
  );
}
