/** What was done a moment ago and can be taken back. */
export type Done = { words: string; undo: () => Promise<unknown>; trouble?: unknown; busy?: boolean };

/** How long it can be taken back, in milliseconds. */
export const undoFor = 10_000;

/** Holds the last thing that can be taken back, for ten seconds; while somebody is at it the time does not go on. */
export class Undo {
  private now: Done | undefined;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private left = 0;
  private since = 0;
  private held = false;
  private readonly heard = new Set<() => void>();

  /** Says that something was done. What was done before it stands. */
  offer(words: string, undo: () => Promise<unknown>) {
    this.set({ words, undo });
    this.left = undoFor;
    this.go();
  }

  /** Takes it back. Where that fails the reason stays until it is closed. */
  async take() {
    const done = this.now;
    if (!done || done.busy) return;
    this.stop();
    this.set({ words: done.words, undo: done.undo, busy: true });
    const mine = this.now;
    try {
      await done.undo();
      if (this.now === mine) this.set(undefined);
    } catch (trouble) {
      if (this.now === mine) this.set({ words: done.words, undo: done.undo, trouble });
    }
  }

  /** Stops the time while a pointer or the keyboard is on it. */
  hold(held: boolean) {
    if (this.held === held) return;
    this.held = held;
    if (held) {
      this.left -= Date.now() - this.since;
      this.stop();
    } else this.go();
  }

  close() {
    this.stop();
    this.held = false;
    this.set(undefined);
  }

  private go() {
    this.stop();
    this.since = Date.now();
    if (this.held || !this.now || this.now.busy || this.now.trouble !== undefined) return;
    this.timer = setTimeout(() => this.close(), Math.max(this.left, 0));
  }

  private stop() {
    clearTimeout(this.timer);
    this.timer = undefined;
  }

  private set(now: Done | undefined) {
    this.now = now;
    for (const tell of this.heard) tell();
  }

  read = () => this.now;
  subscribe = (tell: () => void) => {
    this.heard.add(tell);
    return () => void this.heard.delete(tell);
  };
}

export const undo = new Undo();
