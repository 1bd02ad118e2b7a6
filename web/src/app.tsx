import { useQuery } from "@tanstack/react-query";
import { Component, lazy, Suspense, useEffect, type ReactNode } from "react";
import { Route, Routes, useLocation } from "react-router";
import { get, Problem, setProject, type About } from "./data/api";
import { listen } from "./data/live";
import { Frame } from "./parts/frame";
import { Command, Heading, Trouble, Waiting } from "./parts/plain";
import { StartRun } from "./parts/start";
import { NowPage } from "./pages/now";
import { SignIn, SignedOut } from "./pages/sign-in";

// A page's own parts load with it.
const page = <K extends string>(name: K, load: () => Promise<Record<K, () => ReactNode>>) =>
  lazy(async () => ({ default: (await load())[name] }));
const Runs = page("RunsPage", () => import("./pages/runs"));
const Run = page("RunPage", () => import("./pages/run"));
const Plans = page("PlansPage", () => import("./pages/plans"));
const Plan = page("PlanPage", () => import("./pages/plan"));
const Calendar = page("CalendarPage", () => import("./pages/calendar"));
const Suites = page("SuitesPage", () => import("./pages/suites"));
const Suite = page("SuitePage", () => import("./pages/suite"));
const Write = page("WritePage", () => import("./pages/write"));
const Builds = page("BuildsPage", () => import("./pages/builds"));
const Build = page("BuildPage", () => import("./pages/build"));
const Fleet = page("FleetPage", () => import("./pages/fleet"));
const Lineups = page("LineupsPage", () => import("./pages/lineups"));
const ByHand = page("ByHandPage", () => import("./pages/by-hand"));
const Session = page("SessionPage", () => import("./pages/session"));
const SessionSheet = page("SessionSheetPage", () => import("./pages/session-sheet"));
const Side = page("SidePage", () => import("./pages/side"));
const Findings = page("FindingsPage", () => import("./pages/findings"));
const Finding = page("FindingPage", () => import("./pages/findings"));
const Beside = page("BesidePage", () => import("./pages/beside"));
const Pictures = page("PicturesPage", () => import("./pages/pictures"));
const Summary = page("SummaryPage", () => import("./pages/summary"));
const OverTime = page("OverTimePage", () => import("./pages/over-time"));
const Crash = page("CrashPage", () => import("./pages/over-time"));
const Device = page("DevicePage", () => import("./pages/device"));

export function App() {
  const { pathname } = useLocation();
  if (pathname === "/sign-in") return <SignIn />;
  return <SignedIn />;
}

function SignedIn() {
  const who = useQuery<About, Problem>({
    queryKey: ["who"],
    queryFn: () => get<About>("/api/v1/about"),
    staleTime: Infinity,
  });
  useEffect(() => {
    if (!who.data) return;
    setProject(who.data.project);
    listen(who.data.project);
  }, [who.data]);
  if (who.error?.status === 401) return <SignedOut />;
  if (who.error)
    return (
      <main className="p-8">
        <Trouble of={who.error} retry={() => void who.refetch()} />
      </main>
    );
  if (!who.data) return null;
  setProject(who.data.project);
  return (
    <Frame who={who.data}>
      <Net>
        <Suspense
          fallback={
            <Page>
              <Waiting what="the page" />
            </Page>
          }
        >
          <Routes>
            <Route path="/" element={<NowPage />} />
            <Route path="/runs" element={<Runs />} />
            <Route path="/runs/:run" element={<Run />} />
            <Route path="/runs/:run/pictures" element={<Pictures />} />
            <Route path="/runs/:run/summary" element={<Summary />} />
            <Route path="/beside" element={<Beside />} />
            <Route path="/over-time" element={<OverTime />} />
            <Route path="/crashes/:crash" element={<Crash />} />
            <Route path="/plans" element={<Plans />} />
            <Route path="/plans/:plan" element={<Plan />} />
            <Route path="/new-plan" element={<Plan />} />
            <Route path="/calendar" element={<Calendar />} />
            <Route path="/suites" element={<Suites />} />
            <Route path="/suites/:suite" element={<Suite />} />
            <Route path="/write" element={<Write />} />
            <Route path="/write/:suite" element={<Write />} />
            <Route path="/builds" element={<Builds />} />
            <Route path="/builds/:build" element={<Build />} />
            <Route path="/fleet" element={<Fleet />} />
            <Route path="/by-hand" element={<ByHand />} />
            <Route path="/by-hand/side" element={<Side />} />
            <Route path="/by-hand/:session" element={<Session />} />
            <Route path="/by-hand/:session/sheet" element={<SessionSheet />} />
            <Route path="/findings" element={<Findings />} />
            <Route path="/findings/:finding" element={<Finding />} />
            <Route path="/lineups" element={<Lineups />} />
            <Route path="/fleet/:device" element={<Device />} />
            <Route
              path="*"
              element={
                <Page>
                  <Heading title="There is no such page." />
                  <p className="text-soft">
                    Press <kbd>/</kbd> to find something by its name, or choose a place above.{" "}
                    <Command>yamato --help</Command> lists the commands.
                  </p>
                </Page>
              }
            />
          </Routes>
        </Suspense>
      </Net>
      <StartRun />
    </Frame>
  );
}

function Page({ children }: { children: ReactNode }) {
  return <div className="px-5 py-5">{children}</div>;
}

/** Catches what a page throws: the rest goes on. */
class Net extends Component<{ children: ReactNode }, { error?: unknown; path?: string }> {
  state: { error?: unknown; path?: string } = {};
  static getDerivedStateFromError(error: unknown) {
    return { error, path: location.pathname };
  }
  componentDidUpdate() {
    if (this.state.error && this.state.path !== location.pathname) this.setState({ error: undefined, path: undefined });
  }
  render() {
    if (this.state.error === undefined) return this.props.children;
    return (
      <Page>
        <Trouble of={this.state.error} retry={() => location.reload()} />
      </Page>
    );
  }
}
