import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, NavLink, Route, Routes } from "react-router";
import { ActivityPage } from "./activity";
import { JobPage } from "./job";
import { JobsPage } from "./jobs";
import { LatenessPage } from "./lateness";
import { QueryPage } from "./query";
import { StreamsPage } from "./streams";
import "./style.css";

const client = new QueryClient({ defaultOptions: { queries: { retry: false, refetchInterval: 2000 } } });

const pages = [
  { to: "/", label: "Jobs" },
  { to: "/query", label: "Query" },
  { to: "/streams", label: "Topics & streams" },
  { to: "/activity", label: "Activity" },
];

function Layout() {
  return (
    <>
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:p-2">Skip to the page</a>
      <header className="border-b border-line bg-sheet">
        <div className="mx-auto flex max-w-7xl items-center gap-8 px-6 py-3">
          <Link to="/" className="flex items-center gap-2.5 text-lg font-semibold tracking-tight text-river">
            <svg viewBox="0 0 32 32" className="size-6" aria-hidden="true">
              <path d="M3 11c5-5 8 4 13 0s8-4 13 0M3 17c5-5 8 4 13 0s8-4 13 0M3 23c5-5 8 4 13 0s8-4 13 0" fill="none" stroke="currentColor" strokeWidth="2.4" strokeLinecap="round" />
            </svg>
            Fiume
          </Link>
          <nav className="flex gap-1" aria-label="Main">
            {pages.map((p) => (
              <NavLink key={p.to} to={p.to} end={p.to === "/"}
                className={({ isActive }) => `rounded-md px-3 py-1.5 font-medium ${isActive ? "bg-river-pale text-river" : "text-soft hover:text-ink"}`}>
                {p.label}
              </NavLink>
            ))}
          </nav>
        </div>
      </header>
      <main id="page" className="mx-auto max-w-7xl px-6 py-6">
        <Routes>
          <Route path="/" element={<JobsPage />} />
          <Route path="/jobs/:name" element={<JobPage />} />
          <Route path="/query" element={<QueryPage />} />
          <Route path="/streams" element={<StreamsPage />} />
          <Route path="/streams/:name/lateness" element={<LatenessPage />} />
          <Route path="/activity" element={<ActivityPage />} />
          <Route path="*" element={<p className="text-soft">There is no such page. <Link className="text-river underline" to="/">Back to the jobs</Link></p>} />
        </Routes>
      </main>
    </>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter><Layout /></BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
