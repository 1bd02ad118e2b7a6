import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { Hub, type FromHub } from "./hub";

/** A stream by hand. */
class Stream {
  static all: Stream[] = [];
  static get last() {
    return Stream.all[Stream.all.length - 1]!;
  }
  onerror: (() => void) | undefined;
  closed = false;
  private heard = new Map<string, (e: { data: string }) => void>();
  constructor(readonly url: string) {
    Stream.all.push(this);
  }
  addEventListener(kind: string, f: (e: { data: string }) => void) {
    this.heard.set(kind, f);
  }
  close() {
    this.closed = true;
  }
  say(kind: string, body: unknown = {}) {
    this.heard.get(kind)?.({ data: JSON.stringify(body) });
  }
  get asks() {
    return decodeURIComponent(this.url.split("?")[1]!);
  }
}

let status = 200;

beforeEach(() => {
  vi.useFakeTimers();
  Stream.all = [];
  status = 200;
  vi.stubGlobal("EventSource", Stream);
  vi.stubGlobal("fetch", () => Promise.resolve({ status }));
});
afterEach(() => vi.useRealTimers());

function tab(hub: Hub) {
  const told: FromHub[] = [];
  const l = hub.join((m) => told.push(m));
  return {
    l,
    told,
    of: (kind: string) => told.filter((m) => m.kind === kind),
    state: () => told.filter((m) => m.kind === "state").at(-1),
  };
}

test("tabs share one stream, which asks for what any of them wants", () => {
  const hub = new Hub();
  const a = tab(hub);
  const b = tab(hub);
  hub.want(a.l, "default", { fleet: true });
  hub.want(b.l, "default", { fleet: true, events: { 7: 3 } });
  expect(Stream.all.filter((s) => !s.closed)).toHaveLength(1);
  expect(Stream.last.asks).toBe("watch=fleet&run=7:3");
  Stream.last.say("run", { run: 7, first: 4, events: [{}, {}] });
  expect(a.of("run")).toHaveLength(0);
  expect(b.of("run")).toHaveLength(1);
  hub.leave(b.l);
  expect(Stream.last.asks).toBe("watch=fleet");
  hub.leave(a.l);
  expect(Stream.all.every((s) => s.closed)).toBe(true);
});

test("a tab that comes later is told how things are", () => {
  const hub = new Hub();
  const a = tab(hub);
  hub.want(a.l, "default", { fleet: true, runs: true, library: true });
  Stream.last.say("fleet", { whole: true, devices: [{ name: "x", state: "idle" }, { name: "y" }] });
  Stream.last.say("fleet", { whole: false, devices: [{ name: "x", state: "leased" }], gone: ["y"] });
  Stream.last.say("runs", { runs: [{ number: 1 }] });
  Stream.last.say("library", { builds: 4 });
  const b = tab(hub);
  hub.want(b.l, "default", { fleet: true, runs: true, library: true });
  expect(JSON.parse((b.of("fleet")[0] as { body: string }).body)).toEqual({
    whole: true,
    devices: [{ name: "x", state: "leased" }],
  });
  expect(JSON.parse((b.of("runs")[0] as { body: string }).body)).toEqual({ runs: [{ number: 1 }] });
  expect(Stream.all).toHaveLength(1);
});

test("a lost stream is said, tried again, and taken up where it was", async () => {
  const hub = new Hub();
  const a = tab(hub);
  hub.want(a.l, "default", { events: { 7: 0 } });
  Stream.last.say("run", { run: 7, first: 1, events: [{}, {}, {}] });
  expect(a.state()).toMatchObject({ connected: true });
  Stream.last.onerror?.();
  expect(a.state()).toMatchObject({ connected: false, signedOut: false });
  expect(Stream.last.closed).toBe(true);
  await vi.advanceTimersByTimeAsync(300);
  expect(Stream.all).toHaveLength(2);
  expect(Stream.last.asks).toBe("run=7:3");
  Stream.last.onerror?.();
  await vi.advanceTimersByTimeAsync(300);
  expect(Stream.all).toHaveLength(2); // it waits longer each time
  await vi.advanceTimersByTimeAsync(400);
  expect(Stream.all).toHaveLength(3);
  Stream.last.say("pulse");
  expect(a.state()).toMatchObject({ connected: true });
});

test("a stream that falls silent counts as lost", async () => {
  const hub = new Hub();
  const a = tab(hub);
  hub.want(a.l, "default", { fleet: true });
  Stream.last.say("pulse");
  await vi.advanceTimersByTimeAsync(11_000);
  Stream.last.say("pulse");
  await vi.advanceTimersByTimeAsync(11_000);
  expect(a.state()).toMatchObject({ connected: true });
  await vi.advanceTimersByTimeAsync(8_000);
  expect(a.state()).toMatchObject({ connected: false });
});

test("a browser that was signed out is told so, and not tried ever faster", async () => {
  const hub = new Hub();
  const a = tab(hub);
  hub.want(a.l, "default", { fleet: true });
  Stream.last.say("pulse");
  status = 401;
  Stream.last.onerror?.();
  await vi.advanceTimersByTimeAsync(10);
  expect(a.state()).toMatchObject({ connected: false, signedOut: true });
  await vi.advanceTimersByTimeAsync(5000);
  expect(Stream.all).toHaveLength(1);
});

test("what one tab has not seen is asked for again", () => {
  const hub = new Hub();
  const a = tab(hub);
  hub.want(a.l, "default", { events: { 7: 0 } });
  Stream.last.say("run", { run: 7, first: 1, events: Array(50).fill({}) });
  const b = tab(hub);
  hub.want(b.l, "default", { events: { 7: 20 } });
  expect(Stream.all).toHaveLength(2);
  expect(Stream.last.asks).toBe("run=7:20");
  hub.want(b.l, "default", { events: { 7: 50 } });
  expect(Stream.all).toHaveLength(2); // told again what it wants, for it is there still
});

test("a connection that is made while a loss is still looked into is watched", async () => {
  const hub = new Hub();
  const a = tab(hub);
  hub.want(a.l, "default", { fleet: true });
  Stream.last.say("pulse");
  Stream.last.onerror?.(); // lost: it asks why, and that takes a moment
  hub.retry(); // meanwhile a person does not want to wait
  const fresh = Stream.last;
  fresh.say("pulse");
  await vi.advanceTimersByTimeAsync(0); // now it knows why
  expect(a.state()).toMatchObject({ connected: true });
  await vi.advanceTimersByTimeAsync(30_000); // and the stream says nothing at all
  expect(fresh.closed).toBe(true);
  expect(a.of("state").some((m) => m.kind === "state" && !m.connected && m.since > 0)).toBe(true);
});
