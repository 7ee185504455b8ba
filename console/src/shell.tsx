// The frame around every page: names of the pages on the left, and below them
// a title block, as a drawing has one, that tells what this sheet shows.
import { useQueryClient } from "@tanstack/react-query";
import { Moon, Sun } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { api, setCsrf, type Session } from "./api/client";
import { useLive } from "./api/live";
import { useAbout } from "./api/queries";
import { Status } from "./components/status";
import { chooseTheme, currentTheme } from "./theme";

// Users are administrators' business alone: the service refuses them to others.
const pages: [string, string, string?][] = [
  ["/", "Overview"],
  ["/namespaces", "Namespaces"],
  ["/replicas", "Replica sets"],
  ["/dedup", "Deduplication"],
  ["/migrations", "Migrations"],
  ["/servers", "Servers"],
  ["/sites", "Sites"],
  ["/runs", "Runs"],
  ["/changes", "Changes"],
  ["/locks", "Locks", "administrator"],
  ["/users", "Users", "administrator"],
  ["/reference", "API"],
];

export function Shell({ session, children }: { session: Session; children: ReactNode }) {
  return (
    <div className="grid min-h-screen grid-cols-[12.5rem_minmax(0,1fr)]">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:top-2 focus:left-2 focus:z-50 focus:bg-sheet focus:p-2">
        Skip to the page
      </a>
      <div className="sticky top-0 flex h-screen flex-col border-r border-line">
        <header className="px-5 pt-5 pb-6">
          <Mark />
        </header>
        <nav aria-label="Pages" className="grid">
          {pages.filter(([, , role]) => !role || role === session.user.role).map(([to, name]) => (
            <NavLink key={to} to={to} end={to === "/"} className={({ isActive }) => `border-l-4 px-4 py-1.5 ${isActive ? "border-span bg-wash font-semibold text-span" : "border-transparent hover:bg-inset"}`}>
              {name}
            </NavLink>
          ))}
        </nav>
        <footer className="mt-auto">
          <TitleBlock session={session} />
        </footer>
      </div>
      <main id="page" className="min-w-0 px-8 py-6">
        <div className="max-w-6xl">{children}</div>
      </main>
    </div>
  );
}

export function Mark() {
  return (
    <div className="grid w-40 gap-1">
      <svg viewBox="0 0 120 16" aria-hidden>
        <path d="M0 4h14v12H0zM106 4h14v12h-14z" fill="var(--ink)" />
        <path d="M14 4.5h92v2.6H14z" fill="var(--span)" />
        <path d="M14 15.5Q60-2 106 15.5" fill="none" stroke="var(--span)" strokeWidth="1.3" />
      </svg>
      <span className="text-lg leading-none font-semibold tracking-tight">Bridge Span</span>
    </div>
  );
}

function TitleBlock({ session }: { session: Session }) {
  const live = useLive();
  const about = useAbout();
  const [theme, setTheme] = useState(currentTheme());
  const queries = useQueryClient();
  const navigate = useNavigate();
  const signOut = async () => {
    await api.DELETE("/api/v1/session");
    setCsrf("");
    await navigate("/");
    // What was read is forgotten; asking who is signed in leads to the sign-in.
    queries.removeQueries({ predicate: (query) => query.queryKey[0] !== "session" });
    void queries.resetQueries({ queryKey: ["session"] });
  };
  const other = theme === "day" ? "night" : "day";
  const cell = "border-t border-line px-5 py-1.5";
  return (
    <div className="text-sm">
      <div className={cell}>{live === "live" ? <Status tone="good">Live</Status> : <Status tone="warn">Waiting for the service</Status>}</div>
      <div className={`${cell} flex items-baseline justify-between gap-2`}>
        <span className="min-w-0">
          <Link to="/sign-ins" className="block truncate font-medium underline underline-offset-2" title={`${session.user.name}: sessions and tokens`}>
            {session.user.name}
          </Link>
          <span className="text-soft">{session.user.role}</span>
        </span>
        <button className="text-span underline underline-offset-2" onClick={() => void signOut()}>
          Sign out
        </button>
      </div>
      <div className={`${cell} flex items-center justify-between text-soft`}>
        <span>Version {about.data?.version}</span>
        <button
          aria-label={`Switch to ${other} colours`}
          className="p-1 hover:text-ink"
          onClick={() => {
            chooseTheme(other);
            setTheme(other);
          }}
        >
          {theme === "day" ? <Moon className="size-4" aria-hidden /> : <Sun className="size-4" aria-hidden />}
        </button>
      </div>
    </div>
  );
}
