// A form for declarations, made of what the kinds of places say of themselves.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "./api";
import { declaration, roles, type Declared, type Role } from "./declaration";
import { Button, Empty, Field, Input, Select } from "./parts";
import { say } from "./i18n";

/** A form for a stream, a table, a sink or an endpoint; its statement is put into the editor. */
export function DeclareForm({ onText }: { onText: (sql: string) => void }) {
  const places = useQuery({ queryKey: ["places"], queryFn: api.places, staleTime: Infinity });
  const definitions = useQuery({ queryKey: ["definitions"], queryFn: api.definitions });
  const [d, setD] = useState<Declared>({
    role: "stream",
    place: "TOPIC",
    name: "",
    address: "",
    via: "",
    secret: "",
    columns: "",
    options: {},
  });
  const set = (part: Partial<Declared>) => setD({ ...d, ...part });
  const fit = (places.data ?? []).filter((p) => p.roles.includes(d.role));
  const of = fit.find((p) => p.place === d.place) ?? fit[0];
  if (!of) return <Empty>{places.isLoading ? say("Looking …") : say("There are no places.")}</Empty>;
  const endpoints = (definitions.data ?? []).filter((x) => x.kind === "endpoint").map((x) => x.name);
  const options = of.options.filter((o) => o.role === d.role);
  const text = declaration(d, of);
  const toward = d.role === "sink" ? "that writes to" : d.role === "endpoint" ? "of the kind" : "that reads from";
  return (
    <>
      <div className="grid gap-3 sm:grid-cols-3">
        <Field label={say("Declare a")}>
          <Select
            testid="declare-role"
            value={d.role}
            onChange={(e) => set({ role: e.target.value as Role, options: {} })}
          >
            {roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </Select>
        </Field>
        <Field label={toward}>
          <Select testid="declare-place" value={of.place} onChange={(e) => set({ place: e.target.value, options: {} })}>
            {fit.map((p) => (
              <option key={p.place}>{p.place}</option>
            ))}
          </Select>
        </Field>
        <Field label={say("Name")}>
          <Input testid="declare-name" value={d.name} onChange={(e) => set({ name: e.target.value })} />
        </Field>
        <Field label={say("Address")}>
          <Input testid="declare-address" value={d.address} onChange={(e) => set({ address: e.target.value })} />
        </Field>
        {of.endpoint && d.role !== "endpoint" && (
          <Field label={say("Behind the endpoint")}>
            <Input
              testid="declare-via"
              list="declare-endpoints"
              value={d.via}
              onChange={(e) => set({ via: e.target.value })}
            />
          </Field>
        )}
        {d.role === "endpoint" && (
          <Field label={say("Secret of its password (a name)")}>
            <Input testid="declare-secret" value={d.secret} onChange={(e) => set({ secret: e.target.value })} />
          </Field>
        )}
        <datalist id="declare-endpoints">
          {endpoints.map((n) => (
            <option key={n} value={n} />
          ))}
        </datalist>
      </div>
      <p className="text-sm text-soft">{of.about}.</p>
      {(d.role === "stream" || d.role === "table") && (
        <Field label={say("Columns; none: those that the place, or its messages, tell")}>
          <Input
            testid="declare-columns"
            className="font-mono"
            placeholder={say("chip VARCHAR NOT NULL, read_at TIMESTAMP")}
            value={d.columns}
            onChange={(e) => set({ columns: e.target.value })}
          />
        </Field>
      )}
      {options.length > 0 && (
        <div className="max-h-72 space-y-3 overflow-y-auto pr-2" data-testid="declare-options">
          {options.map((o) => {
            const id = `declare-${o.name.toLowerCase().replaceAll(" ", "-")}`;
            const value = d.options[o.name] ?? "";
            const change = (v: string) => set({ options: { ...d.options, [o.name]: v } });
            const choices = o.kind === "flag" ? ["true", "false"] : o.kind === "word" ? o.words : [];
            return (
              <div key={o.name} className="grid gap-x-4 sm:grid-cols-[14rem_1fr]">
                <Field label={o.name}>
                  {choices.length > 0 ? (
                    <Select testid={id} value={value} onChange={(e) => change(e.target.value)}>
                      <option value="">{o.default || "–"}</option>
                      {choices.map((w) => (
                        <option key={w}>{w}</option>
                      ))}
                    </Select>
                  ) : (
                    <Input
                      testid={id}
                      list={o.kind === "endpoint" ? "declare-endpoints" : undefined}
                      placeholder={o.default || o.takes}
                      value={value}
                      onChange={(e) => change(e.target.value)}
                    />
                  )}
                </Field>
                <p className="self-end pb-1.5 text-xs text-soft">{o.about}</p>
              </div>
            );
          })}
        </div>
      )}
      <pre
        data-testid="declare-text"
        className="rounded-lg border border-line bg-paper p-3 font-mono text-xs whitespace-pre-wrap"
      >
        {text}
      </pre>
      <Button kind="main" testid="declare-take" disabled={!d.address.trim()} onClick={() => onText(text)}>
        {say("Put it into the text")}
      </Button>
    </>
  );
}
