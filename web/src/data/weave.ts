// A run as its page shows it: cases as rows, combinations as columns, a crossing
// at each meeting. It is read once and then kept up by the run's events.
import type { Combination, Level, RunDetail, RunEvent } from "./api";

export type Verdict = "pass" | "fail" | "error" | "skip" | "none";

export type Crossing = {
  leg: number;
  index: number;
  verdicts: Verdict[]; // of its results, oldest first
  verdict: Verdict;
  flaky: boolean;
  recovered: boolean; // it passed after an attempt that ended in an error
  running: boolean;
  sentence: string;
};

/** A combination, or several of one group that are folded into one. */
export type Column = {
  key: string;
  combination: Combination;
  label: string;
  weight: number;
  group: string;
  members?: Column[];
};
export type Row = {
  key: string;
  suite: string;
  name: string;
  index: number;
  crossings: Map<string, Crossing>;
  weight: number;
  version: number;
  first: boolean;
};

type Entry = { row: Row; column: string; crossing: Crossing };

const decided = (v: Verdict) => v === "pass" || v === "fail" || v === "skip";

/** Folds results, oldest first, as internal/core/verdict does: the last decided one. */
export function fold(verdicts: Verdict[]): { verdict: Verdict; flaky: boolean; recovered: boolean } {
  let verdict: Verdict = "none";
  let erred = false;
  let recovered = false;
  for (const v of verdicts) {
    if (decided(v) || !decided(verdict)) verdict = v;
    recovered ||= erred && v === "pass";
    erred ||= v === "error";
  }
  return {
    verdict,
    flaky: verdicts.includes("pass") && verdicts.includes("fail"),
    recovered: recovered && verdict === "pass",
  };
}

export const combinationKey = (c: Combination) =>
  [c.kind, c.model, c.platform, c.os, ...c.levels.flatMap((l) => [l.factor, l.value])].join("|");
/** An OS as people say it: a browser with another engine than Blink names that itself. */
export const systemName = (platform: string, os: string) =>
  platform === "web" && /^[A-Z]/.test(os) ? os : `${platformName(platform)} ${os}`;
export const platformName = (p: string) => ({ android: "Android", ios: "iOS", web: "Web" })[p] ?? p;
/** Real devices say so: a virtual one may be of the same model. */
const classLabel = (c: Combination) =>
  `${c.model}, ${systemName(c.platform, c.os)}${c.kind === "real" ? ", real" : ""}`;
export const combinationLabel = (c: Combination) => c.label ?? classLabel(c);
export const levelWords = (l: Level) => l.words ?? `${l.factor} ${l.value}`;

/** What a combination is as a level of a factor: one that it was given, or what its devices are. */
export function levelOf(c: Combination, factor: string): string {
  const given = c.levels.find((l) => l.factor === factor);
  if (given) return levelWords(given);
  const own: Record<string, string> = {
    device: classLabel(c),
    platform: platformName(c.platform),
    kind: c.kind,
    model: c.model,
    os: `${systemName(c.platform, c.os)}`,
    system: `${systemName(c.platform, c.os)}${c.kind === "real" ? ", real" : ""}`,
  };
  return own[factor] ?? "";
}

/** The same where the factor's name stands beside it: "100%" for "text at 100%". */
export function levelShort(c: Combination, factor: string): string {
  const given = c.levels.find((l) => l.factor === factor);
  if (!given) return levelOf(c, factor);
  const words = levelWords(given);
  return words.startsWith("text at ")
    ? words.slice(8)
    : words.startsWith(`${factor} `)
      ? words.slice(factor.length + 1)
      : words;
}
export const combinationWhole = (c: Combination) =>
  c.kind === "real" ? combinationLabel(c) : `${combinationLabel(c)}, ${c.kind}`;

const weigh = (x: Crossing) => (x.verdict === "fail" || x.verdict === "error" ? 4 : x.flaky ? 2 : x.recovered ? 1 : 0);

export class Weave {
  rows: Row[] = [];
  columns: Column[] = [];
  version = 0; // rises with every change of order
  private suites: string[] = [];
  private at = new Map<string, Entry>();
  private legs = new Map<number, { column: string; busy: boolean; entries: Entry[] }>();
  private listeners = new Set<() => void>();
  private frame = 0;
  private sortAt = 0;
  private unsorted = false;
  private all: Column[] = [];
  private by = "";
  private folded: ReadonlySet<string> = new Set();

  constructor(detail: RunDetail) {
    const rows = new Map<string, Row>();
    const columns = new Map<string, Column>();
    for (const leg of detail.legs) {
      const column = combinationKey(leg.combination);
      if (!columns.has(column))
        columns.set(column, {
          key: column,
          combination: leg.combination,
          label: combinationLabel(leg.combination),
          weight: 0,
          group: "",
        });
      if (!this.suites.includes(leg.suite)) this.suites.push(leg.suite);
      const entries: Entry[] = [];
      this.legs.set(leg.id, { column, busy: leg.state === "running", entries });
      for (const x of leg.cases) {
        const key = `${leg.suite}\n${x.name}`;
        let row = rows.get(key);
        if (!row)
          rows.set(
            key,
            (row = {
              key,
              suite: leg.suite,
              name: x.name,
              index: x.index,
              crossings: new Map(),
              weight: 0,
              version: 0,
              first: false,
            }),
          );
        const verdicts = x.results.map((r) => r.verdict as Verdict);
        const crossing: Crossing = {
          leg: leg.id,
          index: x.index,
          verdicts,
          verdict: x.verdict,
          flaky: x.flaky,
          recovered: x.recovered ?? false,
          running: false,
          sentence: [...x.results].reverse().find((r) => r.sentence)?.sentence ?? "",
        };
        row.crossings.set(column, crossing);
        const entry = { row, column, crossing };
        this.at.set(`${leg.id}/${x.index}`, entry);
        entries.push(entry);
      }
    }
    for (const leg of detail.legs) this.guess(leg);
    this.rows = [...rows.values()];
    this.all = [...columns.values()];
    this.sort();
  }

  // Which case is under way is told by events alone; of a leg that ran before this
  // page was opened it is the first that its attempt has still to judge.
  private guess(leg: RunDetail["legs"][number]) {
    if (leg.state !== "running") return;
    const attempt = leg.attempts.length;
    const todo = leg.cases.find(
      (x) => !x.results.some((r) => r.attempt === attempt) && (attempt === 1 || x.verdict !== "pass"),
    );
    const entry = todo && this.at.get(`${leg.id}/${todo.index}`);
    if (entry) entry.crossing.running = true;
  }

  subscribe = (l: () => void) => {
    this.listeners.add(l);
    return () => this.listeners.delete(l);
  };

  /** Puts columns together by the levels of a factor ("" for none), those of some groups as one. */
  group(by: string, folded: ReadonlySet<string>) {
    if (by === this.by && [...folded].join("\n") === [...this.folded].join("\n")) return;
    this.by = by;
    this.folded = folded;
    for (const c of this.all) c.group = by ? levelOf(c.combination, by) : "";
    this.sort();
    this.version++;
    this.tell();
  }

  /** The factors that its columns differ in, and by which they can be put together. */
  factors(named: string[] = []): string[] {
    const known = [
      ...named,
      "platform",
      "kind",
      "model",
      "os",
      ...(this.all[0]?.combination.levels.map((l) => l.factor) ?? []),
    ];
    return [...new Set(known)].filter((f) => {
      const levels = new Set(this.all.map((c) => levelOf(c.combination, f)));
      return levels.size > 1 && levels.size < Math.max(this.all.length, 3);
    });
  }

  /** The factors whose levels stand over the columns, a row each: by which they are put together, what devices
   * they are, and the levels that the run varies. What is the same for all is not told. */
  heads(): string[] {
    const list = ["model", "system", ...(this.all[0]?.combination.levels.map((l) => l.factor) ?? [])];
    const own = list.filter((f) => f !== this.by && new Set(this.all.map((c) => levelOf(c.combination, f))).size > 1);
    return own.length > 0 || this.by ? own : ["model", "system"];
  }

  /** What stands where a row and a column cross: of a folded group, what wants attention most. */
  crossing(row: Row, column: Column): Crossing | undefined {
    if (!column.members) return row.crossings.get(column.key);
    let worst: Crossing | undefined;
    for (const m of column.members) {
      const x = row.crossings.get(m.key);
      if (
        x &&
        (!worst ||
          weigh(x) > weigh(worst) ||
          (worst.verdict === "none" && x.verdict !== "none" && weigh(x) === weigh(worst)))
      )
        worst = x;
    }
    return worst;
  }

  find(leg: number, index: number) {
    return this.at.get(`${leg}/${index}`);
  }

  /** The case of a leg that is worth a look first. */
  firstOf(leg: number): number {
    const all = this.legs.get(leg)?.entries.map((e) => e.crossing) ?? [];
    return (all.find((x) => weigh(x) > 0) ?? all[0])?.index ?? 0;
  }

  stop() {
    cancelAnimationFrame(this.frame);
    clearTimeout(this.sortAt);
  }

  /** Takes events in. What they change is shown with the next frame. */
  take(events: RunEvent[]) {
    for (const e of events) this.one(e);
    if (this.frame === 0) this.frame = requestAnimationFrame(() => this.show());
  }

  private one(e: RunEvent) {
    if (e.leg === undefined) return;
    const here = e.case_index === undefined ? undefined : this.at.get(`${e.leg}/${e.case_index}`);
    if (e.kind === "case" && here) {
      here.crossing.running = true;
      here.row.version++;
    } else if (e.kind === "result" && here) {
      const x = here.crossing;
      x.running = false;
      x.verdicts.push(e.verdict as Verdict);
      const before = weigh(x);
      Object.assign(x, fold(x.verdicts));
      if (e.sentence) x.sentence = e.sentence;
      here.row.version++;
      if (weigh(x) !== before) this.unsorted = true;
    } else if (e.kind === "attempt") {
      const leg = this.legs.get(e.leg);
      if (leg) leg.busy = true;
    } else if (e.kind === "again" || e.kind === "leg") {
      const leg = this.legs.get(e.leg);
      if (leg) leg.busy = false;
      for (const { row, crossing } of leg?.entries ?? []) {
        if (crossing.running) row.version++;
        crossing.running = false;
        if (e.kind === "leg" && crossing.verdict === "none" && e.state === "finished") {
          crossing.verdict = "error"; // its attempts ended before it could be judged
          row.version++;
        }
      }
    }
  }

  /** The columns that have a leg under way. */
  busy(): Set<string> {
    return new Set([...this.legs.values()].filter((l) => l.busy).map((l) => l.column));
  }

  private show() {
    this.frame = 0;
    if (this.unsorted) {
      // Rows that jump cannot be read: the order follows at its leisure.
      this.unsorted = false;
      clearTimeout(this.sortAt);
      this.sortAt = window.setTimeout(() => {
        this.sort();
        this.tell();
      }, 700);
    }
    this.tell();
  }

  private tell() {
    for (const l of this.listeners) l();
  }

  /** Rows within their suite and columns by what failed in them, so that failures come together. */
  private sort() {
    const before = this.rows.map((r) => r.key).join() + this.columns.map((c) => c.key).join();
    const weights = new Map<string, number>();
    for (const row of this.rows) {
      row.weight = 0;
      for (const [column, x] of row.crossings) {
        row.weight += weigh(x);
        weights.set(column, (weights.get(column) ?? 0) + weigh(x));
      }
    }
    const heaviest = new Map<string, number>();
    for (const row of this.rows) heaviest.set(row.suite, Math.max(heaviest.get(row.suite) ?? 0, row.weight));
    const suites = [...this.suites].sort((a, b) => (heaviest.get(b) ?? 0) - (heaviest.get(a) ?? 0));
    this.rows = [...this.rows].sort(
      (a, b) => suites.indexOf(a.suite) - suites.indexOf(b.suite) || b.weight - a.weight || a.index - b.index,
    );
    const groups = new Map<string, number>();
    for (const c of this.all) {
      c.weight = weights.get(c.key) ?? 0;
      groups.set(c.group, (groups.get(c.group) ?? 0) + c.weight);
    }
    const platforms = ["android", "ios", "web"];
    // Columns of one level stand together, factor by factor, so that heads are told once; what failed comes first.
    const heads = this.heads();
    const paths = new Map(
      this.all.map((c) => [
        c,
        heads.map((_, i) => [c.group, ...heads.slice(0, i + 1).map((f) => levelOf(c.combination, f))].join("\n")),
      ]),
    );
    const heavy = new Map<string, number>();
    for (const c of this.all) for (const p of paths.get(c)!) heavy.set(p, (heavy.get(p) ?? 0) + c.weight);
    const apart = (a: Column, b: Column) => {
      const x = paths.get(a)!;
      const y = paths.get(b)!;
      const i = x.findIndex((p, n) => p !== y[n]);
      return i < 0
        ? 0
        : (heavy.get(y[i]!) ?? 0) - (heavy.get(x[i]!) ?? 0) ||
            (i === 0 && heads[0] === "model" ? order(a, b) : 0) ||
            x[i]!.localeCompare(y[i]!);
    };
    const order = (a: Column, b: Column) =>
      platforms.indexOf(a.combination.platform) - platforms.indexOf(b.combination.platform) ||
      a.combination.model.localeCompare(b.combination.model) ||
      a.combination.os.localeCompare(b.combination.os);
    const sorted = [...this.all].sort(
      (a, b) =>
        (groups.get(b.group) ?? 0) - (groups.get(a.group) ?? 0) ||
        a.group.localeCompare(b.group) ||
        apart(a, b) ||
        b.weight - a.weight ||
        platforms.indexOf(a.combination.platform) - platforms.indexOf(b.combination.platform) ||
        a.combination.model.localeCompare(b.combination.model) ||
        a.combination.os.localeCompare(b.combination.os),
    );
    this.columns = [];
    for (const c of sorted) {
      const last = this.columns[this.columns.length - 1];
      if (!this.by || !this.folded.has(c.group)) this.columns.push(c);
      else if (last?.members && last.group === c.group) last.members.push(c);
      else
        this.columns.push({
          ...c,
          key: `fold ${c.group}`,
          label: c.group,
          weight: groups.get(c.group) ?? 0,
          members: [c],
        });
    }
    let suite = "";
    for (const row of this.rows) {
      row.first = row.suite !== suite;
      suite = row.suite;
    }
    if (before !== this.rows.map((r) => r.key).join() + this.columns.map((c) => c.key).join()) this.version++;
  }
}
