// Patterns: texts to begin from, over a stream and columns that one chooses.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, problemOf } from "./api";
import { Empty, Fault, Field, Select } from "./parts";
import { say } from "./i18n";

type Choice = { stream?: string; key?: string; number?: string; with?: string };

/** Asks what patterns are to be made over, and gives the text of the one that is taken. */
export function PatternForm({ onText }: { onText: (sql: string) => void }) {
  const [choice, setChoice] = useState<Choice>({});
  const { data, error } = useQuery({
    queryKey: ["patterns", choice],
    queryFn: () => api.patterns(choice),
    placeholderData: keepPreviousData,
  });
  if (error) return <Fault>{problemOf(error)?.message}</Fault>;
  if (!data) return <Empty>{say("Loading …")}</Empty>;
  const of = (label: string, testid: string, chosen: string, all: string[], set: (v: string) => void, none?: string) =>
    all.length > 0 && (
      <Field label={label}>
        <Select testid={testid} value={chosen} onChange={(e) => set(e.target.value)}>
          {none !== undefined && <option value="">{none}</option>}
          {all
            .slice()
            .sort()
            .map((x) => (
              <option key={x}>{x}</option>
            ))}
        </Select>
      </Field>
    );
  return (
    <div className="space-y-4">
      {data.stream === "" ? (
        <p className="text-soft">{say("Nothing is declared yet: begin with messages and what their fields are.")}</p>
      ) : (
        <div className="grid grid-cols-2 gap-3">
          {of(say("Over the stream"), "pattern-stream", data.stream, data.streams, (stream) => setChoice({ stream }))}
          {of(say("What tells things apart"), "pattern-key", data.key, data.keys, (key) =>
            setChoice({ ...choice, stream: data.stream, key, with: undefined }),
          )}
          {of(say("What is measured"), "pattern-number", data.number, data.numbers, (number) =>
            setChoice({ ...choice, stream: data.stream, number }),
          )}
          {of(
            say("Joined with"),
            "pattern-with",
            data.with,
            data.withs,
            (other) => setChoice({ ...choice, stream: data.stream, with: other || undefined }),
            say("what fits first"),
          )}
        </div>
      )}
      <ul className="space-y-2">
        {data.patterns.map((p) => (
          <li key={p.name}>
            <button
              type="button"
              data-testid="pattern"
              onClick={() => onText(p.sql)}
              className="block w-full cursor-pointer rounded-md border border-line px-3 py-2 text-left hover:bg-river-pale"
            >
              <span className="font-medium">{p.name}</span>
              <span className="block text-xs text-soft">{p.about}</span>
              <code className="mt-1 block overflow-x-auto text-xs whitespace-pre">{p.sql.trim()}</code>
            </button>
          </li>
        ))}
      </ul>
    </div>
  );
}
