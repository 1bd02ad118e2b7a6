// Two attempts at the same thing, laid beside each other: which steps are the same, and what differs.
import type { Step } from "./api";

export type Pair = { a?: number; b?: number };

const sameStep = (a: Step, b: Step) => a.text === b.text && (a.depth ?? 0) === (b.depth ?? 0) && (a.phase ?? "") === (b.phase ?? "");

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
    for (let i = 0; i < Math.max(n, m); i++) out.push({ a: i < n ? head + i : undefined, b: i < m ? head + i : undefined });
    return out;
  }
  const long = Array.from({ length: n + 1 }, () => new Uint16Array(m + 1));
  for (let i = n - 1; i >= 0; i--)
    for (let j = m - 1; j >= 0; j--) long[i]![j] = sameStep(a[head + i]!, b[head + j]!) ? long[i + 1]![j + 1]! + 1 : Math.max(long[i + 1]![j]!, long[i]![j + 1]!);
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

/** What differs between two records, leaf by leaf; what each attempt has anew anyway is left out. */
export function differences(a: unknown, b: unknown, leave: string[] = ["attempt"]): Difference[] {
  const leaves = new Map<string, string>();
  const walk = (v: unknown, path: string, into: Map<string, string>) => {
    if (Array.isArray(v)) {
      const named = v.every((one) => one && typeof one === "object" && "factor" in one && "value" in one);
      if (named) for (const one of v as { factor: string; value: unknown }[]) into.set(one.factor, String(one.value));
      else into.set(path, v.map((one) => (typeof one === "object" ? JSON.stringify(one) : String(one))).join(", "));
    } else if (v && typeof v === "object") for (const [k, one] of Object.entries(v)) walk(one, path ? `${path}.${k}` : k, into);
    else if (typeof v === "string" || typeof v === "number" || typeof v === "boolean") into.set(path, String(v));
  };
  walk(a, "", leaves);
  const others = new Map<string, string>();
  walk(b, "", others);
  const out: Difference[] = [];
  for (const name of new Set([...leaves.keys(), ...others.keys()])) {
    const left = leaves.get(name) ?? "";
    const right = others.get(name) ?? "";
    if (left !== right && !leave.includes(name)) out.push({ name: name.replaceAll("_", " ").replace(/^device\./, ""), a: left, b: right });
  }
  return out;
}
