import { useQuery } from "@tanstack/react-query";
import { Component, Suspense, useEffect, type ReactNode } from "react";
import { Route, Routes, useLocation } from "react-router";
import { get, Problem, setProject, type About } from "./data/api";
import { listen } from "./data/live";
import { Frame } from "./parts/frame";
import { Command, Heading, Trouble, Waiting } from "./parts/plain";
import { StartRun } from "./parts/start";
import { SignIn, SignedOut } from "./pages/sign-in";
import { pages } from "./routes";

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
            {pages.map((p) => (
              <Route key={p.path} path={p.path} element={<p.page />} />
            ))}
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
