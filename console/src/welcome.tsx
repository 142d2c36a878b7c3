// What somebody sees who comes to a service that has no jobs yet: the way to the first one, step by step, on rows that are made up.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, problemOf } from "./api";
import { addToDraft } from "./drafts";
import { Button, Fault, Sheet } from "./parts";
import { say } from "./i18n";

const made = `DECLARE STREAM steps (
  runner VARCHAR AS ('R' || CAST(RANDOM_INT(1, 20) AS VARCHAR)),
  metres DOUBLE AS (ROUND(RANDOM_UNIFORM(1, 12), 1)),
  at TIMESTAMP AS (_time)
)
EVENT TIME at DELAY 1 SECOND
FROM GENERATOR 'steps' (ROWS PER SECOND 20);`;

const job = `CREATE TOPIC distances (PARTITIONS 1);
DECLARE SINK distances TO TOPIC 'distances' (FORMAT json);
CREATE JOB running AS
SELECT runner, w.closes AS until, SUM(metres) AS metres
FROM steps
GROUP BY runner, w
WINDOW w AS (TUMBLING 10 SECONDS)
ROUTE TO distances;`;

export function Welcome() {
  const definitions = useQuery({ queryKey: ["definitions"], queryFn: api.definitions });
  const client = useQueryClient();
  const [fault, setFault] = useState("");
  const [busy, setBusy] = useState(false);
  const has = (name: string) => definitions.data?.some((d) => d.name === name);
  const first = has("steps");
  const apply = async (sql: string) => {
    setBusy(true);
    setFault("");
    try {
      await api.applyAll(sql);
      await client.invalidateQueries();
    } catch (e) {
      setFault(problemOf(e)!.message);
    }
    setBusy(false);
  };
  return (
    <div className="space-y-4" data-testid="welcome">
      <p className="max-w-3xl">
        {say(
          "No jobs yet. A job reads streams of rows, computes while they come, and writes what comes out. The first one takes three steps; what they make can be dropped again.",
        )}
      </p>
      {fault && <Fault>{fault}</Fault>}
      <Step
        number={1}
        title={say("Rows to read")}
        done={!!first}
        text={made}
        about="A generator makes up what twenty runners do."
      >
        <Button
          testid="welcome-rows"
          kind={first ? "plain" : "main"}
          disabled={busy || !!first}
          onClick={() => void apply(made)}
        >
          {first ? say("Declared") : say("Declare the stream")}
        </Button>
      </Step>
      <Step
        number={2}
        title={say("See them")}
        done={false}
        text={"SELECT * FROM steps"}
        about="A query shows rows as they come, and keeps nothing."
      >
        {first ? (
          <Link className="text-river underline" to="/work" onClick={() => addToDraft("SELECT * FROM steps;")}>
            {say("Open it in the editor")}
          </Link>
        ) : (
          <span className="text-soft">{say("after the first step")}</span>
        )}
      </Step>
      <Step
        number={3}
        title={say("A job")}
        done={false}
        text={job}
        about="It adds up the metres of each runner in ten seconds, and writes them to a topic."
      >
        <Button
          testid="welcome-job"
          kind={first ? "main" : "plain"}
          disabled={busy || !first}
          onClick={() => void apply(job)}
        >
          {say("Create and start it")}
        </Button>{" "}
        {first && (
          <Link className="text-river underline" to="/work?as=drawing" data-testid="welcome-draw">
            {say("or draw one of your own")}
          </Link>
        )}
      </Step>
      <p className="text-soft">
        {say("Or begin with what you have: ")}
        <Link className="text-river underline" to="/work">
          {say("write SQL")}
        </Link>
        ,{" "}
        <Link className="text-river underline" to="/topics">
          {say("make a topic")}
        </Link>
        ,{" "}
        <Link className="text-river underline" to="/declared">
          {say("look at places outside")}
        </Link>
        {say(", apply a file with")} <code className="font-mono">{say("fiume apply FILE.sql")}</code>
        {say(", or run the demo with ")}
        <code className="font-mono">{say("fiume demo")}</code>.
      </p>
    </div>
  );
}

function Step({
  number,
  title,
  done,
  about,
  text,
  children,
}: {
  number: number;
  title: string;
  done: boolean;
  about: string;
  text: string;
  children: React.ReactNode;
}) {
  return (
    <Sheet title={`${number}. ${title}${done ? " ✓" : ""}`}>
      <div className="grid grid-cols-1 gap-4 p-4 md:grid-cols-2">
        <div className="space-y-3">
          <p>{about}</p>
          <div>{children}</div>
        </div>
        <pre className="rounded-md border border-line bg-paper p-3 font-mono text-xs whitespace-pre-wrap">{text}</pre>
      </div>
    </Sheet>
  );
}
