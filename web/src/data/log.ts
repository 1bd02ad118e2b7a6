// A log as the host wrote it, one line each: seconds, level, tag, text. It stays
// one text; lines are found by their offsets and cut out when they are shown.

export type LogLine = { at: number; level: string; tag: string; text: string };

const form = /^\s*(-?\d+\.\d+)\s+(\S+)\s+([^:]*):\s?(.*)$/;

export class Log {
  private constructor(
    private text: string,
    private offsets: Uint32Array,
    readonly times: Float64Array, // ms
    readonly length: number,
  ) {}

  static readonly none = new Log("", new Uint32Array(1), new Float64Array(0), 0);

  /** Finds the lines of a text, in pieces short enough not to hold the page up. */
  static async of(text: string): Promise<Log> {
    let room = 1024;
    let offsets = new Uint32Array(room + 1);
    let times = new Float64Array(room);
    let n = 0;
    let from = 0;
    let latest = 0;
    while (from < text.length) {
      let to = text.indexOf("\n", from);
      if (to < 0) to = text.length;
      if (n === room) {
        room *= 2;
        const wider = new Uint32Array(room + 1);
        wider.set(offsets);
        offsets = wider;
        const longer = new Float64Array(room);
        longer.set(times);
        times = longer;
      }
      offsets[n] = from;
      const at = parseFloat(text.slice(from, from + 12)) * 1000;
      latest = Number.isNaN(at) ? latest : Math.max(latest, at); // what is out of order stands where it was written
      times[n] = latest;
      n++;
      from = to + 1; // the line's end counts to it, there or not
      if (n % 25_000 === 0) await new Promise((r) => setTimeout(r));
    }
    offsets[n] = from; // one past the last line's end
    return new Log(text, offsets, times, n);
  }

  line(i: number): LogLine {
    const raw = this.text.slice(this.offsets[i], this.offsets[i + 1]! - 1);
    const m = form.exec(raw);
    return m
      ? { at: parseFloat(m[1]!) * 1000, level: m[2]!, tag: m[3]!, text: m[4]! }
      : { at: this.times[i]!, level: "", tag: "", text: raw };
  }
}

/** Calls are numbered from here on among the moments. */
export const firstCall = 2 ** 30;

/** The moments of an attempt in order: lines of the log are 0 and up, step i is -1 - i, call i is firstCall + i. */
export function moments(
  steps: { at_ms: number }[],
  log: { length: number; times: ArrayLike<number> },
  calls: { at: number }[] = [],
): Int32Array {
  const out = new Int32Array(steps.length + log.length + calls.length);
  let s = 0;
  let c = 0;
  for (let i = 0, l = 0; i < out.length; i++) {
    const step = s < steps.length ? steps[s]!.at_ms : Infinity;
    const call = c < calls.length ? calls[c]!.at : Infinity;
    const line = l < log.length ? log.times[l]! : Infinity;
    if (s < steps.length && step <= line && step <= call) out[i] = -1 - s++;
    else if (c < calls.length && (call <= line || l >= log.length)) out[i] = firstCall + c++;
    else out[i] = l++;
  }
  return out;
}

/** The last of rising times that is not after a moment, -1 for none. */
export function lastBefore(times: (i: number) => number, n: number, ms: number): number {
  let from = 0;
  let to = n;
  while (from < to) {
    const mid = (from + to) >> 1;
    if (times(mid) <= ms) from = mid + 1;
    else to = mid;
  }
  return from - 1;
}
