// What gives an alarm just now, what is looked at, and who is told.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Alert, type Definition } from "./api";
import { Button, Empty, Fault, Field, Input, length, Panel, Rows, Scroll, Select, Sheet, ago } from "./parts";
import { may, useSession } from "./session";
import { moment } from "./zone";
import { say } from "./i18n";

type Standing = Alert["standing"][number];

const lengths = [
  { seconds: 900, words: say("15 minutes") },
  { seconds: 3600, words: say("an hour") },
  { seconds: 8 * 3600, words: say("8 hours") },
  { seconds: 86_400, words: say("a day") },
  { seconds: 7 * 86_400, words: say("a week") },
];

/** Keeps an alert, or what of it gives an alarm, silent for a while. */
function Silencing({ alert, of, onClose }: { alert: string; of: string; onClose: () => void }) {
  const cache = useQueryClient();
  const [seconds, setSeconds] = useState(3600);
  const [all, setAll] = useState(of === "");
  const [why, setWhy] = useState("");
  const silence = useMutation({
    mutationFn: () => api.silenceAlert(alert, { of: all ? "" : of, seconds, why }),
    onSuccess: () => {
      void cache.invalidateQueries({ queryKey: ["alerts"] });
      onClose();
    },
  });
  return (
    <Panel open title={say("Silence {{0}}", { 0: alert })} onClose={onClose}>
      <p className="text-soft">
        {say("Nobody is told that it begins. What still gives an alarm when the silence is over is told then.")}
      </p>
      <div className="flex flex-wrap items-end gap-3">
        <Field label={say("For")}>
          <Select testid="silence-length" value={seconds} onChange={(e) => setSeconds(Number(e.target.value))}>
            {lengths.map((l) => (
              <option key={l.seconds} value={l.seconds}>
                {l.words}
              </option>
            ))}
          </Select>
        </Field>
        {of && (
          <Field label={say("What")}>
            <Select value={all ? "all" : "of"} onChange={(e) => setAll(e.target.value === "all")}>
              <option value="of">{of}</option>
              <option value="all">{say("all of the alert")}</option>
            </Select>
          </Field>
        )}
        <Field label={say("Why")}>
          <Input testid="silence-why" value={why} maxLength={500} onChange={(e) => setWhy(e.target.value)} />
        </Field>
        <Button kind="main" testid="silence" disabled={silence.isPending} onClick={() => silence.mutate()}>
          {say("Silence it")}
        </Button>
      </div>
      {silence.error && <Fault>{silence.error.message}</Fault>}
    </Panel>
  );
}

/** Says which sinks are told of the alerts that every service has. */
function Telling({ told, onClose }: { told: string[]; onClose: () => void }) {
  const cache = useQueryClient();
  const definitions = useQuery({ queryKey: ["definitions"], queryFn: api.definitions });
  const waiting = useQuery({ queryKey: ["alert-notices"], queryFn: api.alertNotices });
  const [chosen, setChosen] = useState(told);
  const sinks = (definitions.data ?? []).filter((d: Definition) => d.kind === "sink");
  const tell = useMutation({
    mutationFn: () => api.tellAlerts(chosen),
    onSuccess: () => {
      void cache.invalidateQueries({ queryKey: ["alerts"] });
      onClose();
    },
  });
  return (
    <Panel open title={say("Who is told")} onClose={onClose}>
      <p className="text-soft">
        {say(
          "The sinks that are told of the alerts that every service has. What a declared alert tells stands behind its NOTIFY.",
        )}
      </p>
      {definitions.data && sinks.length === 0 && (
        <Empty>{say("There is no sink. Declare one over WEB, MAIL or TOPIC first.")}</Empty>
      )}
      <ul className="space-y-1">
        {sinks.map((s) => (
          <li key={s.name}>
            <label className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={chosen.includes(s.name)}
                onChange={(e) => setChosen(e.target.checked ? [...chosen, s.name] : chosen.filter((n) => n !== s.name))}
              />
              {s.name}
            </label>
          </li>
        ))}
      </ul>
      <Button kind="main" testid="tell" disabled={tell.isPending} onClick={() => tell.mutate()}>
        {say("Tell these")}
      </Button>
      {tell.error && <Fault>{tell.error.message}</Fault>}
      {waiting.data && waiting.data.length > 0 && (
        <Scroll>
          <p className="pb-2 text-soft">{say("What they are still to be told")}</p>
          <Rows
            of={waiting.data}
            id={(n) => `${n.id} ${n.sink}`}
            columns={[
              { head: say("Sink"), of: (n) => n.sink },
              { head: say("Alert"), of: (n) => `${n.alert} ${n.event}` },
              { head: say("Tries"), right: true, of: (n) => n.tries ?? 0 },
              { head: say("Problem"), wrap: "text-xs text-soft", of: (n) => n.problem },
            ]}
          />
        </Scroll>
      )}
    </Panel>
  );
}

function Alarm({ alert, standing, onSilence }: { alert: Alert; standing: Standing; onSilence?: () => void }) {
  const silent = alert.silences.find((s) => !s.of || s.of === standing.of);
  const job = standing.of?.match(/^job (\S+)/)?.[1];
  return (
    <li className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t border-line/70 px-4 py-3 first:border-t-0">
      <div className="min-w-0 flex-1 basis-96">
        <p className="break-words">
          <span className="font-semibold">{alert.name}</span>{" "}
          {standing.of && !alert.built_in && <span className="font-mono text-xs">{standing.of} </span>}
          <span>{standing.what}</span>
        </p>
        <p className="text-xs text-soft">
          {standing.begun
            ? say("alarm since {{0}}", { 0: ago(standing.begun) })
            : say("holds since {{0}}; no alarm yet", { 0: ago(standing.since) })}
          {standing.told && ` · ${say("told {{0}}", { 0: alert.notify.join(", ") })}`}
          {silent &&
            ` · ${say("silent until {{0}}, by {{1}}", { 0: moment(silent.until).slice(0, 16), 1: silent.by })}${silent.why ? `: ${silent.why}` : ""}`}
        </p>
      </div>
      <span className="flex gap-2">
        {job && (
          <Link className="text-river hover:underline" to={`/jobs/${encodeURIComponent(job)}`}>
            {say("Open the job")}
          </Link>
        )}
        {onSilence && (
          <Button small testid="silence-open" onClick={onSilence}>
            {say("Silence …")}
          </Button>
        )}
      </span>
    </li>
  );
}

export function AlertsPage() {
  const session = useSession();
  const cache = useQueryClient();
  const alerts = useQuery({ queryKey: ["alerts"], queryFn: api.alerts, refetchInterval: 3000 });
  const [silencing, setSilencing] = useState<{ alert: string; of: string }>();
  const [telling, setTelling] = useState(false);
  const speak = useMutation({
    mutationFn: (a: { alert: string; of: string }) => api.silenceAlert(a.alert, { of: a.of, seconds: 0 }),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ["alerts"] }),
  });
  const operates = may(session, "operate");
  const all = alerts.data ?? [];
  const standing = all.flatMap((a) => a.standing.map((s) => ({ a, s })));
  const alarms = standing.filter((x) => x.s.begun);
  const soon = standing.filter((x) => !x.s.begun);
  const list = (of: typeof standing, testid: string) => (
    <ul data-testid={testid}>
      {of.map(({ a, s }) => (
        <Alarm
          key={s.id}
          alert={a}
          standing={s}
          onSilence={operates ? () => setSilencing({ alert: a.name, of: s.of ?? "" }) : undefined}
        />
      ))}
    </ul>
  );
  return (
    <div className="space-y-4">
      <div className="flex items-center gap-3">
        <h1 className="text-xl font-semibold">{say("Alerts")}</h1>
        {operates && (
          <span className="ml-auto">
            <Button testid="telling" onClick={() => setTelling(true)}>
              {say("Who is told …")}
            </Button>
          </span>
        )}
      </div>
      {alerts.error && <Fault>{alerts.error.message}</Fault>}
      {speak.error && <Fault>{speak.error.message}</Fault>}
      {alerts.data && (
        <Sheet title={say("Alarms")} aside={alarms.length > 0 ? alarms.length : undefined}>
          {alarms.length === 0 ? <Empty>{say("Nothing gives an alarm.")}</Empty> : list(alarms, "alarms")}
        </Sheet>
      )}
      {soon.length > 0 && (
        <Sheet title={say("Soon")} aside={say("holds, and not for long enough yet")}>
          {list(soon, "soon")}
        </Sheet>
      )}
      {alerts.data && (
        <Sheet title={say("What is looked at")} aside={say("declared with CREATE ALERT, and what every service has")}>
          <Scroll>
            <Rows
              testid="alerts"
              of={[...all].sort((a, b) => Number(a.built_in) - Number(b.built_in) || a.name.localeCompare(b.name))}
              id={(a) => a.name}
              columns={[
                {
                  head: say("Alert"),
                  of: (a) =>
                    a.built_in ? (
                      <span className="font-medium">{a.name}</span>
                    ) : (
                      <Link
                        className="font-medium text-river hover:underline"
                        to={`/declared/${encodeURIComponent(a.name)}`}
                      >
                        {a.name}
                      </Link>
                    ),
                },
                {
                  head: say("Looks at"),
                  wrap: "max-w-md text-soft break-words",
                  of: (a) => (
                    <>
                      <span className={a.built_in ? "" : "font-mono text-xs"}>{a.about}</span>
                      {a.problem && <span className="block text-clay">{a.problem}</span>}
                    </>
                  ),
                },
                { head: say("For"), of: (a) => (a.for > 0 ? length(a.for) : say("at once")) },
                { head: say("Looked"), of: (a) => <span className="text-soft">{a.looked ? ago(a.looked) : "–"}</span> },
                {
                  head: say("Tells"),
                  of: (a) => a.notify.join(", ") || <span className="text-soft">{say("nobody")}</span>,
                },
                {
                  right: true,
                  of: (a) =>
                    !operates ? null : a.silences.length === 0 ? (
                      <Button small onClick={() => setSilencing({ alert: a.name, of: "" })}>
                        {say("Silence …")}
                      </Button>
                    ) : (
                      <span className="flex flex-col items-end gap-1">
                        {a.silences.map((s) => (
                          <Button
                            key={s.of ?? ""}
                            small
                            testid="speak"
                            onClick={() => speak.mutate({ alert: a.name, of: s.of ?? "" })}
                          >
                            {say("Silent until {{0}} – tell again", { 0: moment(s.until).slice(0, 16) })}
                          </Button>
                        ))}
                      </span>
                    ),
                },
              ]}
            />
          </Scroll>
        </Sheet>
      )}
      {silencing && <Silencing alert={silencing.alert} of={silencing.of} onClose={() => setSilencing(undefined)} />}
      {telling && <Telling told={all.find((a) => a.built_in)?.notify ?? []} onClose={() => setTelling(false)} />}
    </div>
  );
}
