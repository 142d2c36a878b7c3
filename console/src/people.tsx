// Who may use the service: people with their roles, tokens of programs, and what is granted to spaces.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { api, type Grant, type Person, type Share } from "./api";
import { ago, Button, Confirm, Empty, Fault, Field, Input, Panel, Rows, Select, Sheet } from "./parts";
import { administers, useSession, type Role } from "./session";
import { say } from "./i18n";
import { moment } from "./zone";

const roles: { role: Role; about: string }[] = [
  { role: "look", about: say("states, ledgers, charts") },
  { role: "read", about: say("rows") },
  { role: "disclose", about: say("values of sensitive columns") },
  { role: "write", about: say("messages into topics") },
  { role: "develop", about: say("declare, try, create and change jobs") },
  { role: "operate", about: say("start and stop jobs, secrets, endpoints") },
  { role: "administer", about: say("everything") },
];

const written = (g: Grant) => (g.space ? `${g.role}:${g.space}` : g.role);

export function PeoplePage() {
  const session = useSession();
  if (!session) return <p className="text-soft">{say("Loading …")}</p>;
  return (
    <div className="space-y-4">
      <h1 className="text-xl font-semibold">{say("People and tokens")}</h1>
      {!session.needed && (
        <p className="max-w-3xl text-soft" data-testid="nobody">
          {say(
            "Nobody has been created: whoever uses this machine may do everything. With the first person, who must be an administrator, the service begins to ask everybody who he is.",
          )}
        </p>
      )}
      {administers(session) && <People />}
      {session.needed && <Tokens own={!administers(session)} />}
      {administers(session) && session.needed && <Grants />}
      {session.via === "session" && <Password />}
    </div>
  );
}

/** Roles that are chosen: what there is, and a line to add one. */
function Roles({ of, onChange, everywhere }: { of: Grant[]; onChange: (all: Grant[]) => void; everywhere?: boolean }) {
  const [role, setRole] = useState<Role>("look");
  const [space, setSpace] = useState("");
  const known = of.some((g) => g.role === role && (g.space ?? "") === space);
  return (
    <div className="space-y-2">
      <div className="flex flex-wrap gap-1.5" data-testid="roles">
        {of.length === 0 && <span className="text-sm text-soft">{say("no roles yet")}</span>}
        {of.map((g) => (
          <span key={written(g)} className="rounded border border-line bg-paper px-2 py-0.5 font-mono text-xs">
            {written(g)}{" "}
            <button
              type="button"
              className="cursor-pointer text-soft hover:text-clay"
              aria-label={say("Take {{0}} away", { 0: written(g) })}
              onClick={() => onChange(of.filter((x) => x !== g))}
            >
              ×
            </button>
          </span>
        ))}
      </div>
      <div className="flex flex-wrap items-end gap-2">
        <Field label={say("Role")}>
          <Select testid="role" value={role} onChange={(e) => setRole(e.target.value as Role)}>
            {roles.map((r) => (
              <option key={r.role} value={r.role}>
                {r.role}: {r.about}
              </option>
            ))}
          </Select>
        </Field>
        {!everywhere && (
          <Field label={say("In the space (everywhere where left out)")}>
            <Input
              testid="space"
              value={space}
              disabled={role === "administer"}
              onChange={(e) => setSpace(e.target.value.trim())}
            />
          </Field>
        )}
        <Button
          testid="add-role"
          disabled={known}
          onClick={() => onChange([...of, { role, space: role !== "administer" && space ? space : undefined }])}
        >
          {say("Add the role")}
        </Button>
      </div>
    </div>
  );
}

/** What is told once, to be copied. */
function Once({ title, text, onClose }: { title: string; text?: string; onClose: () => void }) {
  return (
    <Panel open={text !== undefined} title={title} onClose={onClose}>
      <p className="text-soft">{say("It is shown this once. Copy it now.")}</p>
      <p data-testid="once" className="rounded border border-line bg-paper p-3 font-mono text-xs break-all select-all">
        {text}
      </p>
      <Button kind="main" onClick={() => void navigator.clipboard?.writeText(text ?? "")}>
        {say("Copy")}
      </Button>
    </Panel>
  );
}

function Head({ children }: { children: ReactNode }) {
  return <div className="flex justify-end border-t border-line px-4 py-3">{children}</div>;
}

function People() {
  const cache = useQueryClient();
  const people = useQuery({ queryKey: ["users"], queryFn: api.users, refetchInterval: 10_000 });
  const again = () => void cache.invalidateQueries();
  const [changing, setChanging] = useState<Person | "new">();
  const [dropping, setDropping] = useState("");
  const [link, setLink] = useState<string>();
  const turn = useMutation({ mutationFn: (p: Person) => api.putUser(p.name, { off: !p.off }), onSuccess: again });
  const drop = useMutation({ mutationFn: api.dropUser, onSuccess: again });
  const invite = useMutation({
    mutationFn: (name: string) => api.putUser(name, { invite: true }),
    onSuccess: (p) => {
      setLink(p.link);
      again();
    },
  });
  const fault = turn.error ?? drop.error ?? invite.error ?? people.error;
  return (
    <Sheet title={say("People")}>
      {fault && (
        <div className="p-3">
          <Fault>{fault.message}</Fault>
        </div>
      )}
      {people.data?.length === 0 ? (
        <Empty>{say("Nobody yet.")}</Empty>
      ) : (
        <Rows
          testid="people"
          of={people.data ?? []}
          id={(p) => p.name}
          columns={[
            { head: say("Name"), of: (p) => <span className="font-medium">{p.name}</span> },
            { head: say("Roles"), mono: true, of: (p) => p.grants.map(written).join(", ") },
            {
              head: say("State"),
              of: (p) =>
                p.off
                  ? say("off")
                  : p.invited
                    ? say("invited until {{0}}", { 0: moment(p.invited).slice(0, 16) })
                    : p.from
                      ? say("by {{0}}", { 0: p.from })
                      : say("on"),
            },
            {
              head: say("Signed in"),
              of: (p) => <span className="text-soft">{p.seen ? ago(p.seen) : say("never")}</span>,
            },
            {
              right: true,
              of: (p) => (
                <span className="flex justify-end gap-1.5">
                  <Button small testid={`change-${p.name}`} onClick={() => setChanging(p)}>
                    {say("Roles …")}
                  </Button>
                  <Button small onClick={() => invite.mutate(p.name)}>
                    {say("New password …")}
                  </Button>
                  <Button small onClick={() => turn.mutate(p)}>
                    {p.off ? say("Let in") : say("Keep out")}
                  </Button>
                  <Button small kind="danger" onClick={() => setDropping(p.name)}>
                    {say("Forget …")}
                  </Button>
                </span>
              ),
            },
          ]}
        />
      )}
      <Head>
        <Button kind="main" testid="new-person" onClick={() => setChanging("new")}>
          {say("Create somebody …")}
        </Button>
      </Head>
      {changing && (
        <Change
          person={changing === "new" ? undefined : changing}
          first={people.data?.length === 0}
          onClose={() => setChanging(undefined)}
          onLink={setLink}
        />
      )}
      <Once title={say("A link to choose a password")} text={link} onClose={() => setLink(undefined)} />
      <Confirm
        open={dropping !== ""}
        title={say("Forget {{0}}?", { 0: dropping })}
        onClose={() => setDropping("")}
        action={{ label: say("Forget"), run: () => drop.mutate(dropping) }}
      >
        {say("His sessions and tokens end. What he declared stays.")}
      </Confirm>
    </Sheet>
  );
}

/** Makes somebody, or gives somebody other roles. */
function Change({
  person,
  first,
  onClose,
  onLink,
}: {
  person?: Person;
  first?: boolean;
  onClose: () => void;
  onLink: (link?: string) => void;
}) {
  const cache = useQueryClient();
  const [name, setName] = useState(person?.name ?? "");
  const [grants, setGrants] = useState<Grant[]>(person?.grants ?? (first ? [{ role: "administer" }] : []));
  const [password, setPassword] = useState("");
  const save = useMutation({
    mutationFn: () =>
      api.putUser(name, person ? { grants } : { grants, password: password || undefined, invite: !password }),
    onSuccess: (p) => {
      onClose();
      if (p.link) onLink(p.link);
      void cache.invalidateQueries();
    },
  });
  return (
    <Panel
      open
      title={person ? say("The roles of {{0}}", { 0: person.name }) : say("Create somebody")}
      onClose={onClose}
    >
      {!person && (
        <Field label={say("Name")}>
          <Input testid="person-name" autoFocus value={name} onChange={(e) => setName(e.target.value.trim())} />
        </Field>
      )}
      <Roles of={grants} onChange={setGrants} />
      {!person && (
        <Field
          label={
            first
              ? say("Password, at least 10 letters")
              : say("Password (a link by which he chooses one where left out)")
          }
        >
          <Input
            testid="person-password"
            type="password"
            autoComplete="new-password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field>
      )}
      {save.error && <Fault>{save.error.message}</Fault>}
      <Button
        kind="main"
        testid="save-person"
        disabled={!name || grants.length === 0 || save.isPending || (first && password.length < 10)}
        onClick={() => save.mutate()}
      >
        {person ? say("Give these roles") : say("Create")}
      </Button>
    </Panel>
  );
}

function Tokens({ own }: { own: boolean }) {
  const cache = useQueryClient();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: api.tokens, refetchInterval: 10_000 });
  const again = () => void cache.invalidateQueries({ queryKey: ["tokens"] });
  const [making, setMaking] = useState(false);
  const [text, setText] = useState<string>();
  const [name, setName] = useState("");
  const [grants, setGrants] = useState<Grant[]>([]);
  const [days, setDays] = useState("90");
  const make = useMutation({
    mutationFn: () => api.newToken({ name, grants, lasts_seconds: Number(days) * 86_400 }),
    onSuccess: (t) => {
      setMaking(false);
      setName("");
      setGrants([]);
      setText(t.text);
      again();
    },
  });
  const drop = useMutation({ mutationFn: api.dropToken, onSuccess: again });
  const [dropping, setDropping] = useState("");
  const fault = drop.error ?? tokens.error;
  return (
    <Sheet title={own ? say("Your tokens") : say("Tokens")} aside={say("what programs show")}>
      {fault && (
        <div className="p-3">
          <Fault>{fault.message}</Fault>
        </div>
      )}
      {tokens.data?.length === 0 ? (
        <Empty>{say("No tokens. A program, a device or a client of brokers shows one instead of a password.")}</Empty>
      ) : (
        <Rows
          testid="tokens"
          of={tokens.data ?? []}
          id={(t) => t.name}
          columns={[
            { head: say("Token"), of: (t) => <span className="font-medium">{t.name}</span> },
            { head: say("Of"), of: (t) => t.owner },
            { head: say("Roles"), mono: true, of: (t) => t.grants.map(written).join(", ") },
            {
              head: say("Ends"),
              of: (t) => <span className="text-soft">{t.ends ? moment(t.ends).slice(0, 16) : "–"}</span>,
            },
            { head: say("Used"), of: (t) => <span className="text-soft">{t.used ? ago(t.used) : say("never")}</span> },
            {
              right: true,
              of: (t) => (
                <Button small kind="danger" onClick={() => setDropping(t.name)}>
                  {say("End …")}
                </Button>
              ),
            },
          ]}
        />
      )}
      <Head>
        <Button testid="new-token" onClick={() => setMaking(true)}>
          {say("Make a token …")}
        </Button>
      </Head>
      <Panel open={making} title={say("Make a token")} onClose={() => setMaking(false)}>
        <Field label={say("Name")}>
          <Input testid="token-name" autoFocus value={name} onChange={(e) => setName(e.target.value.trim())} />
        </Field>
        <Roles of={grants} onChange={setGrants} />
        <Field label={say("Days until it ends; 0: it does not by itself")}>
          <Input testid="token-days" type="number" min={0} value={days} onChange={(e) => setDays(e.target.value)} />
        </Field>
        {make.error && <Fault>{make.error.message}</Fault>}
        <Button
          kind="main"
          testid="make-token"
          disabled={!name || grants.length === 0 || make.isPending}
          onClick={() => make.mutate()}
        >
          {say("Make it")}
        </Button>
      </Panel>
      <Once title={say("The token")} text={text} onClose={() => setText(undefined)} />
      <Confirm
        open={dropping !== ""}
        title={say("End the token {{0}}?", { 0: dropping })}
        onClose={() => setDropping("")}
        action={{ label: say("End it"), run: () => drop.mutate(dropping) }}
      >
        {say("Programs that show it are refused from now on.")}
      </Confirm>
    </Sheet>
  );
}

const kinds: Share["kind"][] = [
  "endpoint",
  "files",
  "secret",
  "topic",
  "stream",
  "table",
  "view",
  "sink",
  "job",
  "board",
];

function Grants() {
  const cache = useQueryClient();
  const grants = useQuery({ queryKey: ["grants"], queryFn: api.grants, refetchInterval: 10_000 });
  const again = () => void cache.invalidateQueries({ queryKey: ["grants"] });
  const [kind, setKind] = useState<Share["kind"]>("endpoint");
  const [name, setName] = useState("");
  const [space, setSpace] = useState("");
  const grant = useMutation({
    mutationFn: () => api.grant({ kind, name, space }),
    onSuccess: () => {
      setName("");
      again();
    },
  });
  const revoke = useMutation({ mutationFn: api.revoke, onSuccess: again });
  const fault = grant.error ?? revoke.error ?? grants.error;
  return (
    <Sheet title={say("Grants")} aside={say("what spaces may use that does not stand in them")}>
      {fault && (
        <div className="p-3">
          <Fault>{fault.message}</Fault>
        </div>
      )}
      {grants.data?.length === 0 ? (
        <Empty>{say("Nothing is granted: a space has only what is called after it, such as timing.reads.")}</Empty>
      ) : (
        <Rows
          testid="grants"
          of={grants.data ?? []}
          id={(s) => `${s.kind} ${s.name} ${s.space}`}
          columns={[
            { head: say("Kind"), of: (s) => s.kind },
            { head: say("Name"), of: (s) => <span className="font-medium">{s.name}</span> },
            { head: say("To the space"), of: (s) => s.space },
            {
              right: true,
              of: (s) => (
                <Button small kind="danger" onClick={() => revoke.mutate(s)}>
                  {say("Revoke")}
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
          grant.mutate();
        }}
      >
        <Field label={say("Kind")}>
          <Select value={kind} onChange={(e) => setKind(e.target.value as Share["kind"])}>
            {kinds.map((k) => (
              <option key={k}>{k}</option>
            ))}
          </Select>
        </Field>
        <Field label={say("Name")}>
          <Input testid="grant-name" value={name} onChange={(e) => setName(e.target.value.trim())} />
        </Field>
        <Field label={say("To the space")}>
          <Input testid="grant-space" value={space} onChange={(e) => setSpace(e.target.value.trim())} />
        </Field>
        <button
          type="submit"
          data-testid="grant"
          disabled={!name || !space || grant.isPending}
          className="cursor-pointer rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper disabled:cursor-default disabled:opacity-45"
        >
          {say("Grant")}
        </button>
      </form>
    </Sheet>
  );
}

function Password() {
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const change = useMutation({
    mutationFn: () => api.changePassword(old, fresh),
    onSuccess: () => {
      setOld("");
      setFresh("");
    },
  });
  return (
    <Sheet title={say("Your password")} aside={say("your other sessions end when it is changed")}>
      <form
        className="flex flex-wrap items-end gap-3 px-4 py-3"
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        <Field label={say("The one of now")}>
          <Input type="password" autoComplete="current-password" value={old} onChange={(e) => setOld(e.target.value)} />
        </Field>
        <Field label={say("The new one, at least 10 letters")}>
          <Input type="password" autoComplete="new-password" value={fresh} onChange={(e) => setFresh(e.target.value)} />
        </Field>
        <button
          type="submit"
          disabled={!old || fresh.length < 10 || change.isPending}
          className="cursor-pointer rounded-md border border-line bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-paper disabled:cursor-default disabled:opacity-45"
        >
          {say("Change")}
        </button>
        {change.isSuccess && <span className="text-sm text-soft">{say("It is changed.")}</span>}
      </form>
      {change.error && (
        <div className="p-3">
          <Fault>{change.error.message}</Fault>
        </div>
      )}
    </Sheet>
  );
}
