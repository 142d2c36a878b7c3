// A guided visit of the demo: a line above each page says what is there to see, and leads on. It can be left and taken up at any time.
import { useQuery } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import { useLocation, useNavigate } from "react-router";
import { api } from "./api";
import { Button } from "./parts";
import { say } from "./i18n";

type Stop = { at: string; title: string; about: string };

const stops: Stop[] = [
  {
    at: "/boards/race_control",
    title: say("A board"),
    about: say(
      "A running race, as its control room sees it. Each panel is a query that runs once for all who look: crowds by mat, who is missing, where. Choose a mat, or another stretch of time.",
    ),
  },
  {
    at: "/jobs/crowding",
    title: say("A job"),
    about: say(
      "It counts who crosses each mat in windows of event time. The drawing shows what flows from step to step and how far the time has come; the tabs below show rows, late rows and state.",
    ),
  },
  {
    at: "/jobs/clean_reads",
    title: say("Late and rejected rows"),
    about: say(
      "Readers lose their link, send late, or send what no one can read. Open the tabs Late and Rejected: each row says why it was set aside, and can be mended and sent again.",
    ),
  },
  {
    at: "/topics/mat-reads",
    title: say("Raw messages"),
    about: say(
      "What comes in, as it came: read the newest, from an offset, or as they come. The topic medical-calls beside it is not declared as a stream by hand yet; “Declare a stream …” proposes one of its messages.",
    ),
  },
  {
    at: "/declared/reads",
    title: say("A declaration"),
    about: say(
      "What the messages mean: columns with types, the column that is the event time, and how long late rows are waited for.",
    ),
  },
  {
    at: "/work",
    title: say("Write and try"),
    about: say(
      "“Begin from …” puts a text here that fits these streams. Run it live, try it to its end on what there is, and deploy it; nothing is kept until then.",
    ),
  },
  {
    at: "/work?as=drawing",
    title: say("Or draw it"),
    about: say(
      "The same text as boxes: choose what is read, say step by step what becomes of the rows, and see real rows in and out of each step. That is the end of the visit.",
    ),
  },
];

const kept = "fiume.visit";
const listeners = new Set<() => void>();

/** Which stop the visit is at: from 0; -1: there is none, and -2: it was ended. */
const where = () => Number(localStorage.getItem(kept) ?? -1);
function go(n: number) {
  localStorage.setItem(kept, String(n));
  listeners.forEach((f) => f());
}
const useWhere = () =>
  useSyncExternalStore((f) => {
    listeners.add(f);
    return () => listeners.delete(f);
  }, where);

/** The line of the visit, on every page. */
export function Visit() {
  const at = useWhere();
  const navigate = useNavigate();
  const { pathname, search } = useLocation();
  const stop = stops[at];
  if (!stop) return null;
  const to = (n: number) => {
    go(n);
    const next = stops[n];
    if (next) navigate(next.at);
  };
  const away = pathname + (stop.at.includes("?") ? search : "") !== stop.at;
  return (
    <aside
      aria-label={say("The visit")}
      data-testid="visit"
      className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2 rounded-lg border border-river bg-river-pale px-4 py-3"
    >
      <p className="min-w-0 flex-1 basis-80">
        <b className="text-river">{say("{{0}} of {{1}}: {{2}}.", { 0: at + 1, 1: stops.length, 2: stop.title })}</b>{" "}
        {stop.about}
      </p>
      <span className="flex gap-2">
        <Button small testid="visit-back" disabled={at === 0} onClick={() => to(at - 1)}>
          {say("Back")}
        </Button>
        {away && (
          <Button small testid="visit-there" onClick={() => navigate(stop.at)}>
            {say("To that page")}
          </Button>
        )}
        {at + 1 < stops.length && (
          <Button small kind="main" testid="visit-next" onClick={() => to(at + 1)}>
            {say("Next")}
          </Button>
        )}
        <Button small testid="visit-end" onClick={() => go(-2)}>
          {say("End the visit")}
        </Button>
      </span>
    </aside>
  );
}

/** Offers the visit where the demo runs. */
export function OfferVisit({ jobs }: { jobs: string[] }) {
  const at = useWhere();
  const navigate = useNavigate();
  const demo = stops.every((s) => !s.at.startsWith("/jobs/") || jobs.includes(s.at.slice("/jobs/".length)));
  const boards = useQuery({
    queryKey: ["boards"],
    queryFn: api.boards,
    enabled: demo && at < 0,
    refetchInterval: false,
  });
  if (!demo || at >= 0 || !boards.data?.some((b) => stops[0]!.at === `/boards/${b.name}`)) return null;
  const begin = () => {
    go(0);
    navigate(stops[0]!.at);
  };
  return at === -2 ? (
    <Button small testid="visit-again" onClick={begin}>
      {say("Visit again")}
    </Button>
  ) : (
    <Button small kind="main" testid="visit-begin" onClick={begin}>
      {say("Take a visit: {{0}} stops", { 0: stops.length })}
    </Button>
  );
}
