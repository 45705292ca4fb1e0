import { useQuery } from "@tanstack/react-query";
import { Moon, Search, Sun } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Link, NavLink, Outlet, useLocation, useNavigate } from "react-router";

import { useLive } from "../shared/api/live";
import { meQuery } from "../shared/api/me";
import { statusQuery } from "../shared/api/status";
import { Empty } from "../shared/ui/states";
import { Palette } from "./Palette";

const PAGES = [
  { to: "/", label: "Today" },
  { to: "/rules", label: "Rules" },
  { to: "/runs", label: "Runs" },
  { to: "/places", label: "Places" },
  { to: "/twins", label: "Twins" },
  { to: "/partners", label: "Partners" },
];

const darkByDefault = (): boolean => window.matchMedia("(prefers-color-scheme: dark)").matches;

function ThemeSwitch() {
  const [theme, setTheme] = useState(() => localStorage.getItem("theme") ?? (darkByDefault() ? "lamplight" : "reedbed"));
  useEffect(() => {
    document.documentElement.dataset["theme"] = theme;
  }, [theme]);
  const other = theme === "reedbed" ? "lamplight" : "reedbed";
  return (
    <button
      type="button"
      className="btn btn-ghost btn-sm"
      onClick={() => {
        localStorage.setItem("theme", other);
        setTheme(other);
      }}
      aria-label={other === "lamplight" ? "Change to the dark theme" : "Change to the light theme"}
    >
      {other === "lamplight" ? <Moon className="size-4" aria-hidden /> : <Sun className="size-4" aria-hidden />}
    </button>
  );
}

function TraceField() {
  const field = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  useEffect(() => {
    const hear = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (event.key === "/" && !target.isContentEditable && !["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName)) {
        event.preventDefault();
        field.current?.focus();
      }
    };
    document.addEventListener("keydown", hear);
    return () => document.removeEventListener("keydown", hear);
  }, []);
  return (
    <search>
      <form
      onSubmit={(event) => {
        event.preventDefault();
        const text = field.current?.value.trim();
        if (text) void navigate(`/trace?text=${encodeURIComponent(text)}`);
      }}
    >
      <label className="input input-sm w-44 max-w-full lg:w-72">
        <Search className="size-4 opacity-60" aria-hidden />
        <input ref={field} type="search" placeholder="Trace a file: name or checksum" aria-label="Trace a file" />
        <kbd className="kbd kbd-sm">/</kbd>
      </label>
    </form>
    </search>
  );
}

function Held() {
  const { data } = useQuery(statusQuery);
  if (!data?.held) return null;
  return (
    <span className="badge badge-error badge-sm ml-1.5 align-middle" aria-label={`${data.held} held`}>
      {data.held}
    </span>
  );
}

/** Who is signed in, and the way to what is hers. */
function Who() {
  const { data } = useQuery(meQuery);
  if (!data) return null;
  return (
    <Link to="/settings?tab=you" className="quiet max-w-36 truncate text-sm" title={`${data.title}, ${data.role}`}>
      {data.title}
    </Link>
  );
}

export function Shell() {
  const connected = useLive();
  const { pathname } = useLocation();
  const here = (to: string) => (to === "/" ? pathname === "/" : pathname.startsWith(to));
  return (
    <>
      <a href="#content" className="btn btn-sm sr-only focus:not-sr-only focus:absolute focus:z-10">
        Skip to the content
      </a>
      <header className="waterline bg-base-100">
        <nav className="mx-auto flex max-w-[1216px] flex-wrap items-center gap-x-4 px-4 lg:gap-x-7" aria-label="Pages">
          <Link to="/" className="py-2 text-lg font-bold tracking-tight">
            Wetbank
          </Link>
          {PAGES.map(({ to, label }) => (
            <NavLink key={to} to={to} className="pier" aria-current={here(to) ? "page" : undefined}>
              {label}
              {to === "/" && <Held />}
            </NavLink>
          ))}
          <span className="ml-auto flex max-w-full flex-wrap items-center gap-x-3 py-1">
            <TraceField />
            <NavLink to="/settings" className="pier !py-2" aria-current={here("/settings") ? "page" : undefined}>
              Settings
            </NavLink>
            <Who />
            <ThemeSwitch />
          </span>
        </nav>
      </header>
      {!connected && (
        <output className="bg-warning text-warning-content block px-4 py-1 text-center text-sm">
          The service does not answer. This page goes on by itself when it does.
        </output>
      )}
      <Palette />
      <main id="content" className="mx-auto max-w-[1216px] px-4 pt-5 pb-14">
        <Outlet />
      </main>
    </>
  );
}

export function NotFound() {
  return (
    <Empty title="There is no such page">
      <Link to="/" className="link">
        Go to Today
      </Link>
    </Empty>
  );
}
