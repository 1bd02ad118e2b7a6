// Two attempts at the same thing, laid beside each other: which steps are the same, and what differs.
import type { Step } from "./api";

export type Pair = { a?: number; b?: number };

const sameStep = (a: Step, b: Step) =>
  a.text === b.text && (a.depth ?? 0) === (b.depth ?? 0) && (a.phase ?? "") === (b.phase ?? "");

/** Aligns the steps of two attempts by what is written, in order (a longest common subsequence; above a million pairs, by line alone). */
export function align(a: Step[], b: Step[]): Pair[] {
  const out: Pair[] = [];
  let head = 0;
  while (head < a.length && head < b.length && sameStep(a[head]!, b[head]!)) {
    out.push({ a: head, b: head });
    head++;
  }
  const n = a.length - head;
  const m = b.length - head;
  if (n * m > 1e6) {
    for (let i = 0; i < Math.max(n, m); i++)
      out.push({ a: i < n ? head + i : undefined, b: i < m ? head + i : undefined });
    return out;
  }
  const long = Array.from({ length: n + 1 }, () => new Uint16Array(m + 1));
  for (let i = n - 1; i >= 0; i--)
    for (let j = m - 1; j >= 0; j--)
      long[i]![j] = sameStep(a[head + i]!, b[head + j]!)
        ? long[i + 1]![j + 1]! + 1
        : Math.max(long[i + 1]![j]!, long[i]![j + 1]!);
  let i = 0;
  let j = 0;
  while (i < n || j < m) {
    if (i < n && j < m && sameStep(a[head + i]!, b[head + j]!)) out.push({ a: head + i++, b: head + j++ });
    else if (j >= m || (i < n && long[i + 1]![j]! >= long[i]![j + 1]!)) out.push({ a: head + i++ });
    else out.push({ b: head + j++ });
  }
  return out;
}

/** Why a pair of steps is not the same, "" where it is. */
export function differs(p: Pair, a: Step[], b: Step[]): string {
  if (p.a === undefined || p.b === undefined) return p.a === undefined ? "only on the right" : "only on the left";
  const left = a[p.a]!;
  const right = b[p.b]!;
  if (left.verdict !== right.verdict) return `${left.verdict} and ${right.verdict}`;
  const slow = Math.max(left.took_ms, right.took_ms);
  const quick = Math.min(left.took_ms, right.took_ms);
  if (slow > 1000 && slow > 3 * Math.max(quick, 100)) return "took much longer on one side";
  return "";
}

export type Difference = { name: string; a: string; b: string };

/** What is told first, as it is likelier to be why; what is not named follows. */
const first = [
  "language",
  "platform",
  "os",
  "model",
  "kind",
  "form",
  "width",
  "height",
  "memory mb",
  "rotation",
  "appearance",
  "text size",
  "network",
  "place",
  "host",
  "site",
  "seed",
  "real time",
  "suite",
  "package",
];

/** What says nothing of why two attempts went differently: names, and what follows from the model. */
const idle = ["attempt", "device.name", "device.hardware_id", "device.labels", "device.released", "device.owner"];

/** What differs between two records, leaf by leaf, what matters most first; of lists, what only one side has. */
export function differences(a: unknown, b: unknown): Difference[] {
  type Leaf = string | string[];
  const walk = (v: unknown, path: string, into: Map<string, Leaf>) => {
    if (Array.isArray(v)) {
      const named =
        v.length > 0 && v.every((one) => one && typeof one === "object" && "factor" in one && "value" in one);
      if (named) for (const one of v as { factor: string; value: unknown }[]) into.set(one.factor, String(one.value));
      else into.set(path, v.map((one) => (typeof one === "object" ? JSON.stringify(one) : String(one))).sort());
    } else if (v && typeof v === "object")
      for (const [k, one] of Object.entries(v)) walk(one, path ? `${path}.${k}` : k, into);
    else if (typeof v === "string" || typeof v === "number" || typeof v === "boolean")
      into.set(path, /^[0-9a-f]{64}$/.test(String(v)) ? `${String(v).slice(0, 12)}…` : String(v));
  };
  const left = new Map<string, Leaf>();
  const right = new Map<string, Leaf>();
  walk(a, "", left);
  walk(b, "", right);
  const words = (x: Leaf | undefined, other: Leaf | undefined): string => {
    if (!Array.isArray(x)) return x ?? "";
    const more = x.filter((one) => !Array.isArray(other) || !other.includes(one));
    return Array.isArray(other) && more.length > 0 ? `with ${more.join(", ")}` : more.join(", ");
  };
  const out: Difference[] = [];
  for (const name of new Set([...left.keys(), ...right.keys()])) {
    if (idle.includes(name)) continue;
    const one = {
      name: name.replaceAll("_", " ").replace(/^device\./, ""),
      a: words(left.get(name), right.get(name)),
      b: words(right.get(name), left.get(name)),
    };
    if (one.a !== one.b) out.push(one);
  }
  const rank = (d: Difference) => (first.indexOf(d.name) < 0 ? first.length : first.indexOf(d.name));
  return out.sort((x, y) => rank(x) - rank(y));
}
