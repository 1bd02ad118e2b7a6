// What happens, as this tab hears it from the hub: the fleet, the late runs, and
// the events of runs that are looked at.
import { useEffect, useSyncExternalStore } from "react";
import { outdated, type Glimpse, type Run, type RunEvent } from "./api";
import type { components } from "./api.gen";
import { Hub, type FromHub, type ToHub, type Wants } from "./hub";

type Schemas = components["schemas"];
type Link = { connected: boolean; since: number; signedOut: boolean; ever: boolean };

type Talk = (m: ToHub) => void;

function open(hear: (m: FromHub) => void): Talk {
  if (typeof SharedWorker !== "undefined") {
    const worker = new SharedWorker(new URL("./hub.worker.ts", import.meta.url), { type: "module", name: "yamato" });
    worker.port.onmessage = (e: MessageEvent<FromHub>) => hear(e.data);
    worker.port.start();
    return (m) => worker.port.postMessage(m);
  }
  const hub = new Hub();
  const l = hub.join(hear);
  return (m) => (m.kind === "want" ? hub.want(l, m.project, m.wants) : m.kind === "retry" ? hub.retry() : hub.leave(l));
}

/** A value that components can subscribe to. */
class Cell<T> {
  private listeners = new Set<() => void>();
  constructor(private value: T) {}
  get = () => this.value;
  set(value: T) {
    this.value = value;
    for (const l of this.listeners) l();
  }
  subscribe = (l: () => void) => {
    this.listeners.add(l);
    return () => this.listeners.delete(l);
  };
}

function useCell<T>(c: Cell<T>): T {
  return useSyncExternalStore(c.subscribe, c.get);
}

const link = new Cell<Link>({ connected: false, since: Date.now(), signedOut: false, ever: false });
const fleet = new Cell<ReadonlyMap<string, Glimpse>>(new Map());
const runs = new Cell<ReadonlyMap<number, Run>>(new Map());

type Follower = { after: number; hear: (first: number, events: RunEvent[]) => void };
const followers = new Map<number, Set<Follower>>();

let talk: Talk | undefined;
let project = "";

/** Begins to listen. Called once, when it is known who is signed in. */
export function listen(name: string) {
  project = name;
  if (!talk) {
    talk = open(hear);
    window.addEventListener("pagehide", () => talk?.({ kind: "leave" }));
    window.addEventListener("pageshow", () => tellWants());
    setInterval(tellWants, 20_000);
  }
  tellWants();
}

export const retryNow = () => talk?.({ kind: "retry" });

function tellWants() {
  const wants: Wants = { fleet: true, runs: true, library: true, events: {} };
  for (const [run, set] of followers) wants.events![run] = Math.min(...[...set].map((f) => f.after));
  talk?.({ kind: "want", project, wants });
}

// What was missed while nobody was connected is read again; what the stream itself
// carries goes on without a gap.
const streamed = ["now", "runs", "builds", "suites", "devices"];

// Lists that are put together on the service are read again when something has
// changed, and not more often than a person can read them.
const readEvery = 1500;
let reading = 0;
function readSoon() {
  reading ||= window.setTimeout(() => {
    reading = 0;
    outdated("now", "runs?");
  }, readEvery);
}

let coming: Map<string, Glimpse> | undefined;
let showing = 0;
function showFleet() {
  clearTimeout(showing);
  showing = 0;
  if (coming) fleet.set(coming);
  coming = undefined;
}

let marks: Schemas["LibraryNews"] = { builds: 0, suites: 0 };

function hear(m: FromHub) {
  switch (m.kind) {
    case "state": {
      const before = link.get();
      link.set({ connected: m.connected, since: m.since, signedOut: m.signedOut, ever: before.ever || m.connected });
      if (m.connected && before.ever && !before.connected) outdated(...streamed);
      break;
    }
    case "fleet": {
      const n = JSON.parse(m.body) as Schemas["FleetNews"];
      coming = new Map(n.whole ? [] : (coming ?? fleet.get()));
      for (const d of n.devices) coming.set(d.name, d);
      for (const name of n.gone ?? []) coming.delete(name);
      // Of many devices that change, a person sees ten states a second, and pages have time to scroll.
      if (n.whole) showFleet();
      else showing ||= window.setTimeout(showFleet, 100);
      break;
    }
    case "runs": {
      const next = new Map(runs.get());
      let ended = false;
      for (const r of (JSON.parse(m.body) as Schemas["RunsNews"]).runs) {
        ended ||= !next.has(r.number) || next.get(r.number)?.state !== r.state || next.get(r.number)?.fails !== r.fails;
        next.set(r.number, r);
      }
      runs.set(next);
      if (ended) readSoon();
      break;
    }
    case "library": {
      const n = JSON.parse(m.body) as Schemas["LibraryNews"];
      if (n.builds !== marks.builds) outdated("builds");
      if (n.suites !== marks.suites) outdated("suites");
      marks = n;
      break;
    }
    case "run": {
      const n = JSON.parse(m.body) as Schemas["EventNews"];
      for (const f of followers.get(n.run) ?? []) {
        const known = f.after - n.first + 1; // events that this one has seen
        const fresh = known > 0 ? n.events.slice(known) : n.events;
        if (fresh.length === 0) continue;
        f.hear(f.after + 1, fresh);
        f.after = n.first + n.events.length - 1;
      }
      break;
    }
  }
}

export const useLink = () => useCell(link);
export const useFleet = () => useCell(fleet);
export const useRuns = () => useCell(runs);

/** How a run is at this moment: as the stream tells, or as it was read. */
export function useLiveRun(run: Run | undefined): Run | undefined {
  const all = useRuns();
  const late = run && all.get(run.number);
  return late && run && late.last_event >= run.last_event ? late : run;
}

/** Hears every event of a run after a number, in order and without gaps. */
export function followRun(run: number, after: number, hear: (first: number, events: RunEvent[]) => void): () => void {
  const f = { after, hear };
  const set = followers.get(run) ?? new Set();
  set.add(f);
  followers.set(run, set);
  tellWants();
  return () => {
    set.delete(f);
    if (set.size === 0) followers.delete(run);
    tellWants();
  };
}

/** Keeps the page's title. */
export const titled = (title: string) => (title ? `${title} · Yamato` : "Yamato");

/** Names the page that is open, where its route does not (routes.tsx). */
export function useTitle(title: string) {
  useEffect(() => {
    document.title = titled(title);
  }, [title]);
}
