import { type Fit } from "../../data/api";
import { size } from "../../data/time";

export type BuildPatch = { note: string; pinned: boolean; labels: Record<string, string> };

/** Devices of one kind of which the same is to be said, together. */
export function alike(list: Fit[]) {
  const groups = new Map<string, [Fit, ...Fit[]]>();
  for (const f of list) {
    const key = JSON.stringify([f.model, f.platform, f.os, f.kind, f.reasons]);
    const group = groups.get(key);
    if (group) group.push(f);
    else groups.set(key, [f]);
  }
  return [...groups.values()];
}

export const difference = (n: number) => `${n < 0 ? "−" : "+"}${size(Math.abs(n))}`;

/** "idle", or "3 idle, 1 leased". */
export function tally(words: string[]) {
  const counts = new Map<string, number>();
  for (const w of words) counts.set(w, (counts.get(w) ?? 0) + 1);
  return words.length === 1 ? words[0] : [...counts].map(([w, n]) => `${n} ${w}`).join(", ");
}
