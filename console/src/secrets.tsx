// Secrets: what opens endpoints. They can be set and forgotten, and are never shown.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api } from "./api";
import { ago, Button, Confirm, Empty, Fault, Field, Input, Rows, Sheet } from "./parts";
import { say } from "./i18n";

export function Secrets() {
  const cache = useQueryClient();
  const secrets = useQuery({ queryKey: ["secrets"], queryFn: api.secrets, refetchInterval: 10_000 });
  const again = () => void cache.invalidateQueries({ queryKey: ["secrets"] });
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [address, setAddress] = useState("");
  const [dropping, setDropping] = useState("");
  const set = useMutation({
    mutationFn: () => api.setSecret(name, value, address),
    onSuccess: () => {
      setName("");
      setValue("");
      setAddress("");
      again();
    },
  });
  const drop = useMutation({ mutationFn: api.dropSecret, onSuccess: again });
  const fault = set.error ?? drop.error ?? secrets.error;
  return (
    <Sheet title={say("Secrets")} aside="kept sealed, sent to one address alone, never shown">
      {fault && (
        <div className="p-3">
          <Fault>{fault.message}</Fault>
        </div>
      )}
      {secrets.data?.length === 0 ? (
        <Empty>{say("No secrets yet. An endpoint names the one that opens it with SECRET &apos;name&apos;.")}</Empty>
      ) : (
        <Rows
          testid="secrets"
          of={secrets.data ?? []}
          id={(s) => s.name}
          columns={[
            { head: say("Secret"), of: (s) => <span className="font-medium">{s.name}</span> },
            {
              head: say("Sent to"),
              mono: true,
              of: (s) => s.for || <span className="font-sans text-soft">{say("the first that uses it")}</span>,
            },
            {
              head: say("Endpoints"),
              of: (s) =>
                s.used_by.map((n) => (
                  <Link key={n} className="mr-2 text-river hover:underline" to={`/declared/${encodeURIComponent(n)}`}>
                    {n}
                  </Link>
                )),
            },
            { head: say("From"), of: (s) => s.from ?? say("set here") },
            { head: say("Set"), of: (s) => <span className="text-soft">{ago(s.changed)}</span> },
            {
              right: true,
              of: (s) => (
                <Button
                  small
                  kind="danger"
                  disabled={s.used_by.length > 0 || !!s.from}
                  onClick={() => setDropping(s.name)}
                >
                  {say("Forget …")}
                </Button>
              ),
            },
          ]}
        />
      )}
      <form
        className="flex flex-wrap items-end gap-3 border-t border-line px-4 py-3"
        onSubmit={(e) => {
          e.preventDefault();
          drop.reset();
          set.mutate();
        }}
      >
        <Field label={say("A secret, new or anew")}>
          <Input
            testid="secret-name"
            value={name}
            placeholder={say("name")}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Field label={say("Value")}>
          <Input
            testid="secret-value"
            type="password"
            autoComplete="new-password"
            value={value}
            onChange={(e) => setValue(e.target.value)}
          />
        </Field>
        <Field label={say("Sent to (the first endpoint that uses it where left out)")}>
          <Input
            testid="secret-for"
            value={address}
            placeholder={say("user@host:port")}
            className="w-72"
            onChange={(e) => setAddress(e.target.value)}
          />
        </Field>
        <button
          type="submit"
          data-testid="set-secret"
          disabled={!name || !value || set.isPending}
          className="cursor-pointer rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper disabled:cursor-default disabled:opacity-45"
        >
          {say("Set")}
        </button>
      </form>
      <Confirm
        open={dropping !== ""}
        title={say("Forget the secret {{0}}?", { 0: dropping })}
        onClose={() => setDropping("")}
        action={{ label: say("Forget it"), run: () => drop.mutate(dropping) }}
      >
        {say("Nobody can see it any more; it can only be set anew.")}
      </Confirm>
    </Sheet>
  );
}
