// A session's socket: the screen as it moves, the log, what is told; orders the other way. It goes on by itself after the
// connection was lost, on whichever service answers.
import { useSyncExternalStore } from "react";
import { inProject, outdated } from "./api";
import type { components } from "./api.gen";

type Schemas = components["schemas"];
export type Spot = Schemas["Spot"];
export type Box = Schemas["Rect"];
export type Card = Schemas["ElementCard"];
export type Answer = Schemas["LiveAnswer"];
export type Node = Schemas["ScreenNode"];
export type TreeOf = Schemas["ScreenTree"];
export type Status = Schemas["LiveStatus"];
export type View = Schemas["LiveView"];
export type Hands = Schemas["LiveHands"];
export type Line = Schemas["LogLine"];
/** An order as it is asked for: its number is given when it is sent. */
export type Order = Omit<Schemas["LiveOrder"], "id">;

export type Shown = { connected: boolean; view?: View; status?: Status; hands?: Hands; closed: string; since: number };

/** The lines of a log by number. What is read and what is told come together here, in any order. */
export class LogBook {
  lines: (Line | undefined)[] = [];
  errors = 0;
  version = 0;
  private listeners = new Set<() => void>();
  private soon?: ReturnType<typeof setTimeout>;

  add(from: number, list: Line[]) {
    for (let i = 0; i < list.length; i++) {
      const at = from + i;
      if (this.lines[at]) continue;
      while (this.lines.length < at) this.lines.push(undefined);
      this.lines[at] = list[i];
      if (list[i]!.level === "error") this.errors++;
    }
    this.version++;
    // Many lines a second are drawn as one change.
    this.soon ??= setTimeout(() => {
      this.soon = undefined;
      for (const l of this.listeners) l();
    }, 80);
  }

  /** Reads lines of JSON, in pieces short enough not to hold the page up. */
  async read(text: string) {
    const list: Line[] = [];
    let from = 0;
    for (let at = 0; at < text.length;) {
      let end = text.indexOf("\n", at);
      if (end < 0) end = text.length;
      if (end > at) list.push(JSON.parse(text.slice(at, end)) as Line);
      at = end + 1;
      if (list.length === 10_000) {
        this.add(from, list);
        from += list.length;
        list.length = 0;
        await new Promise((r) => setTimeout(r));
      }
    }
    this.add(from, list);
  }

  subscribe = (l: () => void) => {
    this.listeners.add(l);
    return () => this.listeners.delete(l);
  };
}

const retries = [150, 300, 600, 1000, 2000];

export class SessionLink {
  readonly log = new LogBook();
  frame = 0; // number of the one that is shown
  frames = 0; // how many were shown
  private state: Shown = { connected: false, closed: "", since: Date.now() };
  private listeners = new Set<() => void>();
  private socket?: WebSocket;
  private waiting = new Map<number, (a: Answer) => void>();
  private next = 0;
  private tries = 0;
  private timer = 0;
  private ended = false;
  private canvas?: HTMLCanvasElement;
  private size = { width: 0, height: 0 };
  private newest?: { number: number; width: number; height: number; picture: Blob };
  private drawing = false;

  constructor(
    readonly number: number,
    private onFrame?: () => void,
  ) {
    this.connect();
    void this.readLog();
  }

  private async readLog() {
    try {
      const r = await fetch(inProject(`sessions/${this.number}/log?as=lines`), { credentials: "same-origin" });
      if (r.ok) await this.log.read(await r.text());
    } catch {
      // it is read again when the page is
    }
  }

  private connect() {
    if (this.ended) return;
    const at = new URL(inProject(`sessions/${this.number}/live`), location.href);
    at.protocol = at.protocol.replace("http", "ws");
    const s = new WebSocket(at);
    s.binaryType = "arraybuffer";
    this.socket = s;
    s.onopen = () => {
      this.tries = 0;
      this.change({ connected: true, since: Date.now() });
      this.sendSize();
    };
    s.onmessage = (e: MessageEvent<string | ArrayBuffer>) =>
      typeof e.data === "string" ? this.told(JSON.parse(e.data) as Schemas["LiveTold"]) : this.shown(e.data);
    s.onclose = (e) => {
      if (this.socket !== s) return;
      for (const [id, done] of this.waiting)
        done({
          id,
          trouble: "The connection was lost; whether this was done is not known",
          remedy: "Look at the screen",
        });
      this.waiting.clear();
      if (e.code === 1008) {
        this.ended = true;
        this.change({ connected: false, closed: e.reason || "the session is closed" });
        outdated(`sessions/${this.number}`, "sessions");
        return;
      }
      if (this.state.connected) this.change({ connected: false, since: Date.now() });
      this.timer = window.setTimeout(() => this.connect(), retries[Math.min(this.tries++, retries.length - 1)]);
    };
  }

  private told(t: Schemas["LiveTold"]) {
    if (t.answer) {
      this.waiting.get(t.answer.id)?.(t.answer);
      this.waiting.delete(t.answer.id);
    }
    if (t.status) this.change({ status: t.status });
    if (t.session) {
      if (t.session.state !== this.state.view?.state || t.session.device !== this.state.view.device)
        outdated(`sessions/${this.number}`, "sessions");
      this.change({ view: t.session });
    }
    if (t.hand) this.change({ hands: t.hand });
    if (t.log) this.log.add(t.log_from ?? 0, t.log);
    if (t.entry) {
      // It is kept a moment after it is told.
      setTimeout(() => outdated(`sessions/${this.number}`), 250);
      setTimeout(() => outdated(`sessions/${this.number}`), 1500);
    }
  }

  private shown(data: ArrayBuffer) {
    const head = new DataView(data);
    const number = Number(head.getBigUint64(0));
    this.newest = {
      number,
      width: head.getUint32(16),
      height: head.getUint32(20),
      picture: new Blob([data.slice(24)]),
    };
    void this.draw();
  }

  /** Draws the newest frame, and says so: then another may come. */
  private async draw() {
    if (this.drawing) return;
    this.drawing = true;
    try {
      while (this.newest) {
        const f = this.newest;
        this.newest = undefined;
        const picture = await createImageBitmap(f.picture).catch(() => undefined);
        const c = this.canvas;
        if (picture && c) {
          if (c.width !== picture.width || c.height !== picture.height) {
            c.width = picture.width;
            c.height = picture.height;
          }
          c.getContext("2d", { alpha: false })?.drawImage(picture, 0, 0);
          this.frame = f.number;
          this.frames++;
        }
        picture?.close();
        this.say({ shown: f.number });
        this.onFrame?.();
      }
    } finally {
      this.drawing = false;
    }
  }

  /** Where frames are drawn, and how large they are shown, in the screen's own pixels. */
  show(canvas: HTMLCanvasElement | undefined, width: number, height: number) {
    this.canvas = canvas;
    const size = { width: Math.round(width * devicePixelRatio), height: Math.round(height * devicePixelRatio) };
    if (size.width < 1 || (size.width === this.size.width && size.height === this.size.height)) return;
    this.size = size;
    this.sendSize();
  }

  private sendSize() {
    if (this.size.width > 0) this.say({ size: this.size });
  }

  say(m: Schemas["LiveSaid"]): boolean {
    if (this.socket?.readyState !== WebSocket.OPEN) return false;
    this.socket.send(JSON.stringify(m));
    return true;
  }

  /** Has the device do something. It gives how that went, and never throws. */
  order(o: Order): Promise<Answer> {
    const id = ++this.next;
    return new Promise((done) => {
      if (this.say({ order: { ...o, id } })) this.waiting.set(id, done);
      else done({ id, trouble: "There is no connection now; nothing was done", remedy: "It comes back by itself" });
    });
  }

  private change(part: Partial<Shown>) {
    this.state = { ...this.state, ...part };
    for (const l of this.listeners) l();
  }

  subscribe = (l: () => void) => {
    this.listeners.add(l);
    return () => this.listeners.delete(l);
  };
  now = () => this.state;

  close() {
    this.ended = true;
    clearTimeout(this.timer);
    this.socket?.close();
  }
}

export const useShown = (l: SessionLink) => useSyncExternalStore(l.subscribe, l.now);

/** 1:05.3 */
export function clock(ms: number): string {
  const m = Math.floor(ms / 60_000);
  return `${m}:${((ms - m * 60_000) / 1000).toFixed(1).padStart(4, "0")}`;
}
