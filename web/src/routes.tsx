import { lazy, type ComponentType, type ReactNode } from "react";
import { matchPath } from "react-router";
import { NowPage } from "./pages/now";
import { builds, byHand, fleet, lineups, now, overTime, plans, runs, suites, type Place } from "./places";

/** A page: its path, the place that it is part of, and its title where that is always the same. */
export type Page = { path: string; place: Place; title?: string; page: ComponentType };

// A page's own parts load with it.
const page = <K extends string>(name: K, load: () => Promise<Record<K, () => ReactNode>>) =>
  lazy(async () => ({ default: (await load())[name] }));
const Plan = page("PlanPage", () => import("./pages/plan"));
const Write = page("WritePage", () => import("./pages/write"));

/** Every page. The router, the navigation and the keys are made of this list; a new page is one line. */
export const pages: Page[] = [
  { path: "/", place: now, title: "Now", page: NowPage },
  { path: "/runs", place: runs, title: "Runs", page: page("RunsPage", () => import("./pages/runs")) },
  { path: "/runs/:run", place: runs, page: page("RunPage", () => import("./pages/run")) },
  { path: "/runs/:run/pictures", place: runs, page: page("PicturesPage", () => import("./pages/pictures")) },
  { path: "/runs/:run/summary", place: runs, page: page("SummaryPage", () => import("./pages/summary")) },
  { path: "/beside", place: runs, title: "Side by side", page: page("BesidePage", () => import("./pages/beside")) },
  { path: "/plans", place: plans, title: "Plans", page: page("PlansPage", () => import("./pages/plans")) },
  { path: "/plans/:plan", place: plans, page: Plan },
  { path: "/new-plan", place: plans, page: Plan },
  { path: "/calendar", place: plans, title: "Calendar", page: page("CalendarPage", () => import("./pages/calendar")) },
  { path: "/suites", place: suites, title: "Suites", page: page("SuitesPage", () => import("./pages/suites")) },
  { path: "/suites/:suite", place: suites, page: page("SuitePage", () => import("./pages/suite")) },
  { path: "/write", place: suites, page: Write },
  { path: "/write/:suite", place: suites, page: Write },
  { path: "/builds", place: builds, title: "Builds", page: page("BuildsPage", () => import("./pages/builds")) },
  { path: "/builds/:build", place: builds, page: page("BuildPage", () => import("./pages/build")) },
  { path: "/fleet", place: fleet, title: "Fleet", page: page("FleetPage", () => import("./pages/fleet")) },
  { path: "/fleet/:device", place: fleet, page: page("DevicePage", () => import("./pages/device")) },
  { path: "/lineups", place: lineups, title: "Lineups", page: page("LineupsPage", () => import("./pages/lineups")) },
  { path: "/by-hand", place: byHand, title: "By hand", page: page("ByHandPage", () => import("./pages/by-hand")) },
  { path: "/by-hand/side", place: byHand, title: "Side by side", page: page("SidePage", () => import("./pages/side")) },
  { path: "/by-hand/:session", place: byHand, page: page("SessionPage", () => import("./pages/session")) },
  {
    path: "/by-hand/:session/sheet",
    place: byHand,
    page: page("SessionSheetPage", () => import("./pages/session-sheet")),
  },
  { path: "/findings", place: byHand, title: "Findings", page: page("FindingsPage", () => import("./pages/findings")) },
  { path: "/findings/:finding", place: byHand, page: page("FindingPage", () => import("./pages/findings")) },
  {
    path: "/over-time",
    place: overTime,
    title: "Over time",
    page: page("OverTimePage", () => import("./pages/over-time")),
  },
  {
    path: "/crashes/:crash",
    place: overTime,
    title: "Crash",
    page: page("CrashPage", () => import("./pages/over-time")),
  },
];

/** Gives the page of an address; nothing where there is none. One that is spelt out goes before one with a name in it. */
export function pageAt(pathname: string): Page | undefined {
  const fits = pages.filter((p) => matchPath(p.path, pathname));
  return fits.find((p) => !p.path.includes(":")) ?? fits[0];
}
