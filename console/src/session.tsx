// Who looks at the console: what he may do, signing in and out, and choosing a password by a link.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { api, type Grant, type Session } from "./api";
import { Fault, Field, Input } from "./parts";
import { say } from "./i18n";

export type Role = Grant["role"];

/** What is known of who looks at the console. */
export function useSession(): Session | undefined {
  return useQuery({ queryKey: ["session"], queryFn: api.session, refetchInterval: 30_000 }).data;
}

/** Whether a role holds anywhere. */
export function may(s: Session | undefined, role: Role): boolean {
  return s === undefined || !s.needed || s.roles.includes(role);
}

/** Whether somebody is an administrator. */
export const administers = (s: Session | undefined) => may(s, "administer");

/** What a new name begins with, for who develops in a space alone. */
export function ownSpace(s: Session | undefined): string {
  if (!s?.needed || s.grants.some((g) => !g.space && (g.role === "develop" || g.role === "administer"))) return "";
  const g = s.grants.find((g) => g.space && g.role === "develop");
  return g ? `${g.space}.` : "";
}

/** Lets somebody in who has shown who he is. */
export function Door({ children }: { children: ReactNode }) {
  const cache = useQueryClient();
  const session = useQuery({ queryKey: ["session"], queryFn: api.session, refetchInterval: 30_000 });
  useEffect(() => {
    const again = () => void cache.invalidateQueries({ queryKey: ["session"] });
    window.addEventListener("fiume-unknown", again);
    return () => window.removeEventListener("fiume-unknown", again);
  }, [cache]);
  if (session.data?.needed && !session.data.name) return <SignIn signs={session.data.signs} />;
  if (!session.data && !session.error) return null; // it is a moment
  return children;
}

function Frame({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-4">
      <div className="rounded-lg border border-line bg-sheet p-6">
        <h1 className="mb-5 flex items-center gap-2.5 text-lg font-semibold tracking-tight">
          <Mark />
          {title}
        </h1>
        {children}
      </div>
    </main>
  );
}

/** The sign of the product. */
export function Mark() {
  return (
    <svg viewBox="0 0 32 32" className="size-6 text-river" aria-hidden="true">
      <path
        d="M3 11c5-5 8 4 13 0s8-4 13 0M3 17c5-5 8 4 13 0s8-4 13 0M3 23c5-5 8 4 13 0s8-4 13 0"
        fill="none"
        stroke="currentColor"
        strokeWidth="2.4"
        strokeLinecap="round"
      />
    </svg>
  );
}

const submit =
  "w-full cursor-pointer rounded-md border border-river bg-river px-3 py-2 text-sm font-medium text-on-river hover:bg-river/90 disabled:cursor-default disabled:opacity-45";

function SignIn({ signs }: { signs: string[] }) {
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => api.signIn(name, password),
    onSuccess: () => void cache.resetQueries(), // all that was shown to nobody
    onError: () => setPassword(""),
  });
  const provider = signs.find((s) => s !== "password");
  return (
    <Frame title={say("Sign in to Fiume")}>
      <form
        className="space-y-4"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <Field label={say("Name")}>
          <Input
            testid="sign-in-name"
            autoFocus
            autoComplete="username"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Field label={say("Password")}>
          <Input
            testid="sign-in-password"
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field>
        {enter.error && <Fault>{enter.error.message}</Fault>}
        <button type="submit" data-testid="sign-in" className={submit} disabled={!name || !password || enter.isPending}>
          {enter.isPending ? say("Signing in …") : say("Sign in")}
        </button>
        {provider && (
          <a
            data-testid="sign-in-provider"
            href={`/signin/provider?to=${encodeURIComponent(location.pathname + location.search)}`}
            className="block rounded-md border border-line px-3 py-2 text-center text-sm font-medium hover:bg-paper"
          >
            {say("Sign in by {{0}}", { 0: provider })}
          </a>
        )}
      </form>
    </Frame>
  );
}

/** Where somebody who was invited chooses a password. The code stands behind #, which browsers send to nobody. */
export function Invited() {
  const [code] = useState(() => decodeURIComponent(location.hash.slice(1)));
  const cache = useQueryClient();
  const go = useNavigate();
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const accept = useMutation({
    mutationFn: () => api.accept(code, password),
    onSuccess: () => {
      cache.clear();
      void go("/", { replace: true });
    },
  });
  return (
    <Frame title={say("Choose a password")}>
      {code === "" ? (
        <p className="text-soft">
          {say("The link is not whole: its code stands behind the #. Open it as it was given to you.")}
        </p>
      ) : (
        <form
          className="space-y-4"
          onSubmit={(e) => {
            e.preventDefault();
            accept.mutate();
          }}
        >
          <p className="text-soft">
            {say("At least 10 letters. The link works once; from then on you sign in with it.")}
          </p>
          <Field label={say("Password")}>
            <Input
              testid="new-password"
              type="password"
              autoFocus
              autoComplete="new-password"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </Field>
          <Field label={say("Once more")}>
            <Input
              testid="new-password-again"
              type="password"
              autoComplete="new-password"
              value={again}
              onChange={(e) => setAgain(e.target.value)}
            />
          </Field>
          {again !== "" && again !== password && <p className="text-sm text-sand">{say("The two differ.")}</p>}
          {accept.error && <Fault>{accept.error.message}</Fault>}
          <button
            type="submit"
            data-testid="choose-password"
            className={submit}
            disabled={password.length < 10 || again !== password || accept.isPending}
          >
            {say("Choose it and sign in")}
          </button>
        </form>
      )}
    </Frame>
  );
}
