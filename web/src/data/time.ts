// Times and amounts as people read them.
const clock = new Intl.DateTimeFormat(undefined, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hourCycle: "h23",
});
const short = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const dayOfYear = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short", year: "numeric" });
const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });

const sameDay = (a: Date, b: Date) => a.toDateString() === b.toDateString();

/** 10:25:31, or 22 Nov, 10:25 where that was another day, with the year where that was another. */
export function at(iso: string | number | Date): string {
  const t = new Date(iso);
  const now = new Date();
  if (sameDay(t, now)) return clock.format(t);
  return `${(t.getFullYear() === now.getFullYear() ? day : dayOfYear).format(t)}, ${short.format(t)}`;
}

/** 850 ms, 4.2 s, 3 min 20 s, 2 h 5 min. */
export function lasting(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  const s = Math.round(ms / 1000);
  if (s < 3600) return s % 60 ? `${Math.floor(s / 60)} min ${s % 60} s` : `${s / 60} min`;
  const m = Math.round(s / 60);
  return m % 60 ? `${Math.floor(m / 60)} h ${m % 60} min` : `${m / 60} h`;
}

export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  if (bytes < 1e6) return `${(bytes / 1e3).toFixed(0)} kB`;
  if (bytes < 1e9) return `${(bytes / 1e6).toFixed(1)} MB`;
  return `${(bytes / 1e9).toFixed(2)} GB`;
}

/** 1 device, 3 devices. */
export function plural(n: number, one: string, many = one + "s"): string {
  return `${n.toLocaleString()} ${n === 1 ? one : many}`;
}

/** A moment of a case or session, in seconds. */
export const seconds = (ms: number) => (ms / 1000).toFixed(2);
