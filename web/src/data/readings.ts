// What an app took of its device over time: CSV, a column for each figure.

export type Figure = { name: string; unit: string; values: Float64Array };
export type Readings = { at: Float64Array; figures: Figure[] };

/** Reads readings as hosts write them; fields hold neither commas nor quotes but in names. */
export function readings(csv: string): Readings {
  const lines = csv.split(/\r?\n/).filter((l) => l !== "");
  const head = fields(lines[0] ?? "");
  const n = Math.max(0, lines.length - 1);
  const at = new Float64Array(n);
  const figures = head.slice(1).map((h): Figure => {
    const m = /^(.*) \(([^()]*)\)$/.exec(h);
    return { name: m ? m[1]! : h, unit: m ? m[2]! : "", values: new Float64Array(n).fill(NaN) };
  });
  for (let i = 0; i < n; i++) {
    const row = lines[i + 1]!.split(",");
    at[i] = Number(row[0]);
    for (let f = 0; f < figures.length; f++) if (row[f + 1]) figures[f]!.values[i] = Number(row[f + 1]);
  }
  return { at, figures };
}

function fields(line: string): string[] {
  const out: string[] = [];
  for (const m of line.matchAll(/(?:^|,)("(?:[^"]|"")*"|[^,]*)/g))
    out.push(m[1]!.startsWith('"') ? m[1]!.slice(1, -1).replaceAll('""', '"') : m[1]!);
  return out;
}

/** The largest value from one moment to another, or the one before where there is none between; NaN for none at all. */
export function largest(r: Readings, f: Figure, from: number, to: number): number {
  let lo = 0;
  let hi = r.at.length;
  while (lo < hi) {
    const mid = (lo + hi) >> 1;
    if (r.at[mid]! < from) lo = mid + 1;
    else hi = mid;
  }
  let out = NaN;
  for (let i = lo; i < r.at.length && r.at[i]! < to; i++)
    if (!(f.values[i]! <= out) && !Number.isNaN(f.values[i]!)) out = f.values[i]!;
  for (let i = lo - 1; Number.isNaN(out) && i >= 0; i--) out = f.values[i]!;
  return out;
}

/** A value with its unit, as people read it. */
export function amount(v: number, unit: string): string {
  if (Number.isNaN(v)) return "";
  if (unit === "bytes" || unit === "bytes/s") {
    const per = unit === "bytes/s" ? "/s" : "";
    if (v < 1000) return `${Math.round(v)} B${per}`;
    if (v < 1e6) return `${(v / 1e3).toFixed(0)} kB${per}`;
    return `${(v / 1e6).toFixed(1)} MB${per}`;
  }
  const n = Math.abs(v) < 10 && v % 1 !== 0 ? v.toFixed(1) : Math.round(v).toLocaleString();
  return unit === "percent" ? `${n} %` : unit === "frames/s" ? `${n}/s` : n;
}
