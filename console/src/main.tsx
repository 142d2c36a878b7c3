import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense, useState } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, NavLink, Route, Routes, useLocation } from "react-router";
import { JobsPage } from "./jobs";
import { Search } from "./search";
import { Visit } from "./visit";
import { setTheme, theme, type Theme } from "./theme";
import { setZone, useZone, zones } from "./zone";
import "./style.css";
import { language, languages, say, setLanguage } from "./i18n";
import { Guard } from "./parts";
import { api, type Session } from "./api";
import { administers, Door, Invited, may, Mark, useSession, type Role } from "./session";

const JobPage = lazy(() => import("./job").then((m) => ({ default: m.JobPage })));
const WorkPage = lazy(() => import("./work").then((m) => ({ default: m.WorkPage })));
const TopicsPage = lazy(() => import("./topics").then((m) => ({ default: m.TopicsPage })));
const TopicPage = lazy(() => import("./topics").then((m) => ({ default: m.TopicPage })));
const DeclaredPage = lazy(() => import("./declared").then((m) => ({ default: m.DeclaredPage })));
const DefinitionPage = lazy(() => import("./declared").then((m) => ({ default: m.DefinitionPage })));
const LatenessPage = lazy(() => import("./lateness").then((m) => ({ default: m.LatenessPage })));
const BoardsPage = lazy(() => import("./boards").then((m) => ({ default: m.BoardsPage })));
const BoardPage = lazy(() => import("./boards").then((m) => ({ default: m.BoardPage })));
const AlertsPage = lazy(() => import("./alerts").then((m) => ({ default: m.AlertsPage })));
const AdvicePage = lazy(() => import("./advice").then((m) => ({ default: m.AdvicePage })));
const PeoplePage = lazy(() => import("./people").then((m) => ({ default: m.PeoplePage })));
const ActivityPage = lazy(() => import("./activity").then((m) => ({ default: m.ActivityPage })));

// The service is on this machine or near it: whether the browser thinks itself online says nothing about it.
const client = new QueryClient({
  defaultOptions: {
    queries: { retry: false, refetchInterval: 2000, networkMode: "always" },
    mutations: { networkMode: "always" },
  },
});

const pages: { to: string; label: string; needs?: Role }[] = [
  { to: "/", label: say("Jobs") },
  { to: "/boards", label: say("Boards") },
  { to: "/topics", label: say("Topics") },
  { to: "/declared", label: say("Declared") },
  { to: "/work", label: say("Write & try"), needs: "develop" },
  { to: "/activity", label: say("Activity"), needs: "administer" },
];

const themes: { value: Theme; label: string }[] = [
  { value: "system", label: say("As the system") },
  { value: "light", label: say("Light") },
  { value: "dark", label: say("Dark") },
];

function Choices({ session }: { session?: Session }) {
  const zone = useZone();
  const [now, setNow] = useState(theme());
  const item = "block w-full cursor-pointer rounded px-3 py-1 text-left data-[focus]:bg-river-pale";
  return (
    <Menu>
      <MenuButton
        data-testid="choices"
        className="cursor-pointer rounded-md border border-line bg-sheet px-2.5 py-1 text-xs text-soft hover:text-ink"
      >
        {session?.needed && session.name
          ? say("{{0}} · times in {{1}}", { 0: session.name, 1: zone })
          : say("Times in {{0}}", { 0: zone })}
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-30 mt-1 w-56 rounded-md border border-line bg-sheet p-1 text-sm shadow-lg focus:outline-none"
      >
        <div className="px-3 py-1 text-xs text-soft">{say("Times are shown in")}</div>
        {zones.map((z) => (
          <MenuItem key={z}>
            <button type="button" onClick={() => setZone(z)} className={`${item} ${z === zone ? "font-semibold" : ""}`}>
              {z}
            </button>
          </MenuItem>
        ))}
        {languages.length > 1 && (
          <div className="mt-1 border-t border-line pt-1">
            {languages.map((code) => (
              <MenuItem key={code}>
                <button
                  type="button"
                  data-testid={`language-${code}`}
                  onClick={() => setLanguage(code)}
                  className={`${item} ${code === language ? "font-semibold" : ""}`}
                >
                  {new Intl.DisplayNames([code], { type: "language" }).of(code)}
                </button>
              </MenuItem>
            ))}
          </div>
        )}
        <div className="mt-1 border-t border-line px-3 pt-2 pb-1 text-xs text-soft">{say("Colours")}</div>
        {themes.map((t) => (
          <MenuItem key={t.value}>
            <button
              type="button"
              data-testid={`theme-${t.value}`}
              onClick={() => {
                setTheme(t.value);
                setNow(t.value);
              }}
              className={`${item} ${t.value === now ? "font-semibold" : ""}`}
            >
              {t.label}
            </button>
          </MenuItem>
        ))}
        {!session?.board && (
          <div className="mt-1 border-t border-line pt-1">
            <MenuItem>
              <Link to="/alerts" data-testid="alerts-page" className={item}>
                {say("Alerts")}
              </Link>
            </MenuItem>
            <MenuItem>
              <Link to="/advice" data-testid="advice-page" className={item}>
                {say("Advice")}
              </Link>
            </MenuItem>
            <MenuItem>
              <Link to="/people" data-testid="people-page" className={item}>
                {administers(session) ? say("People and tokens") : say("Your tokens and password")}
              </Link>
            </MenuItem>
            {session?.via === "session" && (
              <MenuItem>
                <button
                  type="button"
                  data-testid="sign-out"
                  className={item}
                  onClick={() => void api.signOut().then(() => location.assign("/"))}
                >
                  {say("Sign out")}
                </button>
              </MenuItem>
            )}
          </div>
        )}
      </MenuItems>
    </Menu>
  );
}

/** How many alarms there are, in the head of each page; nothing where there are none. */
function Alarms() {
  const alerts = useQuery({ queryKey: ["alerts"], queryFn: api.alerts, refetchInterval: 10_000 });
  const n = (alerts.data ?? []).reduce((n, a) => n + a.standing.filter((s) => s.begun).length, 0);
  if (n === 0) return null;
  return (
    <Link
      to="/alerts"
      data-testid="alarm-count"
      className="rounded-md border border-clay/40 bg-clay-pale px-2.5 py-1 text-xs font-medium text-clay"
    >
      {n === 1 ? say("1 alarm") : say("{{0}} alarms", { 0: n })}
    </Link>
  );
}

function Layout() {
  const { pathname } = useLocation();
  const session = useSession();
  const only = session?.board; // who follows a link sees one board
  return (
    <>
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:p-2">
        {say("Skip to the page")}
      </a>
      <header className="border-b border-line bg-sheet">
        <div className="mx-auto flex max-w-7xl flex-wrap items-center gap-x-8 gap-y-2 px-4 py-3 sm:px-6">
          <Link to="/" className="flex items-center gap-2.5 text-lg font-semibold tracking-tight text-river">
            <Mark />
            {say("Fiume")}
          </Link>
          <nav className="flex flex-wrap gap-1" aria-label={say("Main")}>
            {pages
              .filter((p) => !only && may(session, p.needs ?? "look"))
              .map((p) => (
                <NavLink
                  key={p.to}
                  to={p.to}
                  end={p.to === "/"}
                  className={({ isActive }) =>
                    `rounded-md px-3 py-1.5 font-medium ${isActive ? "bg-river-pale text-river" : "text-soft hover:text-ink"}`
                  }
                >
                  {p.label}
                </NavLink>
              ))}
          </nav>
          <span className="ml-auto flex gap-2">
            {!only && <Alarms />}
            {!only && <Search />}
            <Choices session={session} />
          </span>
        </div>
      </header>
      <main id="page" className="mx-auto max-w-7xl px-4 py-6 sm:px-6">
        {!only && <Visit />}
        <Suspense fallback={<p className="text-soft">{say("Loading …")}</p>}>
          <Guard what={say("This page")} of={pathname}>
            <Routes>
              <Route path="/" element={<JobsPage />} />
              <Route path="/jobs/:name" element={<JobPage />} />
              <Route path="/boards" element={<BoardsPage />} />
              <Route path="/boards/:name" element={<BoardPage />} />
              <Route path="/topics" element={<TopicsPage />} />
              <Route path="/topics/:name" element={<TopicPage />} />
              <Route path="/declared" element={<DeclaredPage />} />
              <Route path="/declared/:name" element={<DefinitionPage />} />
              <Route path="/work" element={<WorkPage />} />
              <Route path="/streams/:name/lateness" element={<LatenessPage />} />
              <Route path="/activity" element={<ActivityPage />} />
              <Route path="/alerts" element={<AlertsPage />} />
              <Route path="/advice" element={<AdvicePage />} />
              <Route path="/people" element={<PeoplePage />} />
              <Route
                path="*"
                element={
                  <p className="text-soft">
                    {say("There is no such page. ")}
                    <Link className="text-river underline" to="/">
                      {say("Back to the jobs")}
                    </Link>
                  </p>
                }
              />
            </Routes>
          </Guard>
        </Suspense>
      </main>
    </>
  );
}

document.documentElement.lang = language;
createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Routes>
          <Route path="/welcome" element={<Invited />} />
          <Route
            path="*"
            element={
              <Door>
                <Layout />
              </Door>
            }
          />
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
