// The one connection of a browser to what happens: a stream of server-sent events
// that its tabs share. It runs in a shared worker, or in the page where there is
// none. Each tab says what it wants to be told of; the hub asks for all of it
// together, remembers how far it got, and goes on from there after a loss.

import type { components } from "./api.gen";

type News = components["schemas"];

export type Wants = { fleet?: boolean; runs?: boolean; library?: boolean; events?: Record<number, number> };

export type ToHub = { kind: "want"; project: string; wants: Wants } | { kind: "retry" } | { kind: "leave" };

export type FromHub =
  | { kind: "state"; connected: boolean; since: number; signedOut: boolean }
  | { kind: "fleet" | "runs" | "library"; body: string }
  | { kind: "run"; body: string };

type Listener = { wants: Wants; tell: (m: FromHub) => void };

// Longer than the service's pulse: a connection this quiet is dead.
const quietLimit = 12_000;

export class Hub {
  private listeners = new Set<Listener>();
  private source: EventSource | undefined;
  private url = "";
  private project = "";
  private connected = false;
  private since = Date.now();
  private heard = 0;
  private tries = 0;
  private watching: ReturnType<typeof setTimeout> | undefined; // of the connection that there is
  private retrying: ReturnType<typeof setTimeout> | undefined; // for the next one
  private cursors = new Map<number, number>();
  private whole = new Map<string, string>(); // device -> glimpse, for tabs that come later
  private runs = new Map<number, string>();
  private library = "";
  private signedOut = false;

  join(tell: (m: FromHub) => void): Listener {
    const l = { wants: {}, tell };
    this.listeners.add(l);
    this.tellState(l);
    return l;
  }

  leave(l: Listener) {
    this.listeners.delete(l);
    this.connect();
  }

  want(l: Listener, project: string, wants: Wants) {
    const before = l.wants;
    l.wants = wants;
    if (project !== this.project) {
      this.project = project;
      this.forget();
    }
    // A tab that comes later is told how things are from memory.
    if (this.connected && this.source) {
      if (wants.fleet && !before.fleet && this.whole.size > 0)
        l.tell({ kind: "fleet", body: `{"whole":true,"devices":[${[...this.whole.values()].join(",")}]}` });
      if (wants.runs && !before.runs) l.tell({ kind: "runs", body: `{"runs":[${[...this.runs.values()].join(",")}]}` });
      if (wants.library && !before.library && this.library) l.tell({ kind: "library", body: this.library });
    }
    for (const [run, after] of Object.entries(wants.events ?? {})) {
      const at = this.cursors.get(Number(run));
      // What a tab that begins to follow has not seen is asked for again; others ignore
      // what they know. One that follows already may only be behind with its reading.
      const begins = before.events?.[Number(run)] === undefined;
      if (at === undefined || (begins && at > after)) this.cursors.set(Number(run), after);
    }
    this.connect();
  }

  // retry tries at once, for a person who does not want to wait.
  retry() {
    this.url = "";
    this.tries = 0;
    this.connect();
  }

  private forget() {
    this.whole.clear();
    this.runs.clear();
    this.library = "";
    this.cursors.clear();
    this.url = "";
  }

  private address(): string {
    const p = new URLSearchParams();
    const all = [...this.listeners].map((l) => l.wants);
    for (const what of ["fleet", "runs", "library"] as const) if (all.some((w) => w[what])) p.append("watch", what);
    const runs = new Set(all.flatMap((w) => Object.keys(w.events ?? {}).map(Number)));
    for (const run of this.cursors.keys()) if (!runs.has(run)) this.cursors.delete(run);
    for (const run of [...runs].slice(-20)) p.append("run", `${run}:${this.cursors.get(run) ?? 0}`);
    return p.size === 0 || !this.project ? "" : `/api/v1/projects/${encodeURIComponent(this.project)}/stream?${p}`;
  }

  // The address without how far it got: what it asks for.
  private asks(url: string) {
    return url.replace(/%3A\d+/g, "");
  }

  private connect() {
    const url = this.address();
    const rewound = [...this.cursors].some(([run, at]) => at < (this.reached.get(run) ?? -1));
    if (this.source && this.asks(url) === this.asks(this.url) && !rewound) return;
    this.close();
    this.url = url;
    if (!url) return;
    this.reached = new Map(this.cursors);
    const source = new EventSource(url);
    this.source = source;
    this.heard = Date.now();
    source.onerror = () => {
      if (this.source === source) this.lost();
    };
    source.addEventListener("pulse", () => this.alive());
    source.addEventListener("fleet", (e) => this.onFleet((e as MessageEvent<string>).data));
    source.addEventListener("runs", (e) => this.onRuns((e as MessageEvent<string>).data));
    source.addEventListener("library", (e) => {
      this.alive();
      this.library = (e as MessageEvent<string>).data;
      this.tellAll({ kind: "library", body: this.library }, (w) => !!w.library);
    });
    source.addEventListener("run", (e) => this.onRun((e as MessageEvent<string>).data));
    this.watch();
  }

  private reached = new Map<number, number>();

  private onFleet(body: string) {
    this.alive();
    const n = JSON.parse(body) as News["FleetNews"];
    if (n.whole) this.whole.clear();
    for (const d of n.devices) this.whole.set(d.name, JSON.stringify(d));
    for (const name of n.gone ?? []) this.whole.delete(name);
    this.tellAll({ kind: "fleet", body }, (w) => !!w.fleet);
  }

  private onRuns(body: string) {
    this.alive();
    for (const r of (JSON.parse(body) as News["RunsNews"]).runs) this.runs.set(r.number, JSON.stringify(r));
    this.tellAll({ kind: "runs", body }, (w) => !!w.runs);
  }

  private onRun(body: string) {
    this.alive();
    const n = JSON.parse(body) as News["EventNews"];
    this.cursors.set(n.run, n.first + n.events.length - 1);
    this.reached.set(n.run, n.first + n.events.length - 1);
    this.tellAll({ kind: "run", body }, (w) => n.run in (w.events ?? {}));
  }

  private alive() {
    this.heard = Date.now();
    this.tries = 0;
    if (this.connected) return;
    this.connected = true;
    this.signedOut = false;
    this.since = Date.now();
    for (const l of this.listeners) this.tellState(l);
  }

  private lost() {
    this.close();
    if (this.connected) {
      this.connected = false;
      this.since = Date.now();
    }
    for (const l of this.listeners) this.tellState(l);
    void this.again();
  }

  // A stream that is refused does not say why: a plain call does.
  private async again() {
    try {
      const r = await fetch("/api/v1/about", { credentials: "same-origin" });
      this.signedOut = r.status === 401;
      if (this.signedOut) for (const l of this.listeners) this.tellState(l);
    } catch {
      // no service answers; go on trying
    }
    if (this.source) return; // somebody has connected meanwhile, and that connection is watched
    const wait = Math.min(250 * 2 ** this.tries++, 4000);
    clearTimeout(this.retrying);
    this.retrying = setTimeout(() => this.connect(), this.signedOut ? 8000 : wait);
  }

  private watch() {
    clearTimeout(this.watching);
    this.watching = setTimeout(() => {
      if (this.source && Date.now() - this.heard > quietLimit) this.lost();
      else if (this.source) this.watch();
    }, quietLimit / 2);
  }

  private close() {
    clearTimeout(this.watching);
    clearTimeout(this.retrying);
    this.source?.close();
    this.source = undefined;
    this.url = "";
  }

  private tellState(l: Listener) {
    l.tell({ kind: "state", connected: this.connected, since: this.since, signedOut: this.signedOut });
  }

  private tellAll(m: FromHub, who: (w: Wants) => boolean) {
    for (const l of this.listeners) if (who(l.wants)) l.tell(m);
  }
}
