import { DropdownMenu, Tooltip } from "radix-ui";
import { useCallback, useEffect, useRef, useState, type ReactNode } from "react";
import { Link, NavLink, useLocation, useNavigate } from "react-router";
import { remove, type About } from "../data/api";
import { retryNow, titled, useLink, useRuns } from "../data/live";
import { at } from "../data/time";
import { UndoBar } from "./undo";
import { DropZone } from "./drop";
import { KeysHelp } from "./keys";
import { places } from "../places";
import { pageAt } from "../routes";
import { Search } from "./search";
import { everywhere, useShortcuts } from "./shortcuts";
import { FleetStrip } from "./strip";
import { MenuItem } from "./menu";
import { useStart } from "./use-start";

function useTheme(): [string, () => void] {
  const [theme, setTheme] = useState(() => document.documentElement.dataset.theme ?? "day");
  const turn = useCallback(() => {
    const next = document.documentElement.dataset.theme === "night" ? "day" : "night";
    document.documentElement.dataset.theme = next;
    localStorage.setItem("yamato.theme", next);
    setTheme(next);
  }, []);
  return [theme, turn];
}

export function Frame({ who, children }: { who: About; children: ReactNode }) {
  const [theme, turn] = useTheme();
  const [searching, setSearching] = useState(false);
  const [help, setHelp] = useState(false);
  const navigate = useNavigate();
  const { pathname } = useLocation();
  const start = useStart();
  const running = [...useRuns().values()].filter((r) => !r.finished_at).length;

  const here = pageAt(pathname);
  useEffect(() => {
    if (here?.title) document.title = titled(here.title);
  }, [here]);

  const going = useRef(0); // when g was pressed
  useShortcuts(
    everywhere,
    {
      "/": () => setSearching(true),
      "?": () => setHelp(true),
      g: () => (going.current = Date.now()),
      t: turn,
      s: () => start(),
    },
    {
      first: (key) => {
        const to = Date.now() - going.current < 1500 ? places.find((p) => p.key === key) : undefined;
        going.current = 0;
        if (to) void navigate(to.path);
        return to !== undefined;
      },
    },
  );

  return (
    <Tooltip.Provider delayDuration={250}>
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-sheet focus:p-2">
        Skip to the page
      </a>
      <div className="flex h-full flex-col">
        <header className="flex-none border-b border-strong bg-sheet">
          <div className="flex h-11 items-center gap-4 px-5 max-sm:gap-2 max-sm:px-3">
            <NavLink to="/" className="flex items-center gap-2" aria-label="Yamato, now">
              <Mark />
              <span className="text-lg font-semibold tracking-tight max-sm:sr-only">Yamato</span>
            </NavLink>
            <span className="border-l border-rule pl-4 text-soft max-sm:hidden">{who.project}</span>
            <button
              onClick={() => setSearching(true)}
              aria-label="Find a run, build, case, device"
              className="field flex w-[min(340px,40vw)] min-w-0 flex-shrink items-center justify-between text-faint max-sm:w-20"
            >
              <span className="truncate">
                <span className="max-sm:hidden">Find a run, build, case, device</span>
                <span className="sm:hidden">Find</span>
              </span>
              <kbd>/</kbd>
            </button>
            <div className="flex-1" />
            <button className="button button-main flex-none" onClick={() => start()}>
              Start a run
            </button>
            <DropdownMenu.Root>
              <DropdownMenu.Trigger className="button min-w-0 max-sm:max-w-[92px]">
                <span className="block truncate">{who.caller}</span>
              </DropdownMenu.Trigger>
              <DropdownMenu.Portal>
                <DropdownMenu.Content align="end" sideOffset={6} className="card z-50 min-w-52 py-1">
                  <MenuItem onSelect={turn}>{theme === "night" ? "Day theme" : "Night theme"}</MenuItem>
                  <MenuItem onSelect={() => setHelp(true)}>Keys</MenuItem>
                  <DropdownMenu.Separator className="my-1 h-px bg-rule" />
                  <MenuItem
                    onSelect={() => {
                      void remove("/api/v1/session").finally(() => location.assign("/sign-in"));
                    }}
                  >
                    Sign this browser out
                  </MenuItem>
                  <div className="px-3 py-1 text-sm text-faint">Yamato {who.program}</div>
                </DropdownMenu.Content>
              </DropdownMenu.Portal>
            </DropdownMenu.Root>
          </div>
          <nav aria-label="Places" className="flex gap-1 overflow-x-auto px-3 [scrollbar-width:none]">
            {places.map((p) => (
              <Link
                key={p.path}
                to={p.path}
                aria-current={here?.place === p ? (here.path === p.path ? "page" : "true") : undefined}
                className={`flex-none border-b-2 px-2 pb-1.5 ${here?.place === p ? "border-ink font-medium" : "border-transparent text-soft hover:text-ink"}`}
              >
                {p.name}
                {p.name === "Runs" && running > 0 && (
                  <span className="pl-1.5 text-sm text-soft">{running} under way</span>
                )}
              </Link>
            ))}
          </nav>
        </header>
        <Connection />
        <main id="page" tabIndex={-1} className="min-h-0 flex-1 overflow-auto outline-none">
          {children}
        </main>
        <FleetStrip />
      </div>
      <Search open={searching} onClose={() => setSearching(false)} />
      <KeysHelp open={help} onClose={() => setHelp(false)} />
      <DropZone />
      <UndoBar />
      <Moved />
    </Tooltip.Provider>
  );
}

function Mark() {
  return (
    <svg width="22" height="22" viewBox="0 0 32 32" aria-hidden="true">
      <path d="M10 2v28M22 2v28M2 10h28M2 22h28" stroke="var(--ink)" strokeWidth="1.6" />
      <circle cx="10" cy="10" r="4" fill="var(--sheet)" stroke="var(--ink)" strokeWidth="2" />
      <circle cx="10" cy="22" r="4" fill="var(--sheet)" stroke="var(--ink)" strokeWidth="2" />
      <circle cx="22" cy="22" r="4" fill="var(--sheet)" stroke="var(--ink)" strokeWidth="2" />
      <rect x="17.5" y="5.5" width="9" height="9" fill="var(--vermilion)" />
    </svg>
  );
}

/** Says that the connection is lost, since when, and what that means. */
function Connection() {
  const link = useLink();
  const [late, setLate] = useState(false);
  useEffect(() => {
    if (link.connected) return setLate(false);
    const t = setTimeout(() => setLate(true), 700); // a page that loads is not a loss
    return () => clearTimeout(t);
  }, [link.connected]);
  if (link.signedOut)
    return (
      <div role="status" className="flex flex-none items-center gap-3 bg-petrol-wash px-5 py-1.5 text-petrol">
        This browser was signed out. What you see is from {at(link.since)}.{" "}
        <a className="link" href="/sign-in">
          Sign in again
        </a>
      </div>
    );
  if (link.connected || !late) return null;
  return (
    <div role="status" className="flex flex-none items-center gap-3 bg-petrol-wash px-5 py-1.5 text-petrol">
      <span className="verdict verdict-error" aria-hidden="true" />
      <span>
        {link.ever
          ? `The connection was lost at ${at(link.since)}. What you see is from then; nothing is lost, and it goes on by itself.`
          : "The service is not heard yet; trying again."}
      </span>
      <button className="link" onClick={() => retryNow()}>
        Try now
      </button>
    </div>
  );
}

/** Moves the focus to the page when another one opens, for those who do not see it. */
function Moved() {
  const { pathname } = useLocation();
  const [first, setFirst] = useState(pathname);
  useEffect(() => {
    if (pathname === first) return;
    setFirst("");
    document.getElementById("page")?.focus();
  }, [pathname, first]);
  return null;
}
