import { useSyncExternalStore } from "react";
import {
  combinationLabel,
  combinationWhole,
  levelOf,
  levelShort,
  type Column,
  type Weave as Model,
} from "../../data/weave";
import { Tip } from "../plain";
import { bandHeight, levelHeight } from "./sizes";

/** What a column is called: a folded group by its level and how many it holds. */
export const nameOf = (c: Column) =>
  c.members
    ? `${c.group}, all ${c.members.length}`
    : combinationLabel(c.combination)
        .split(", ")
        .filter((part) => part !== c.group)
        .join(", ");

type HeadProps = {
  model: Model;
  heads: string[];
  cell: number;
  columns: Column[];
  first: number;
  last: number;
  label: number;
  height: number;
  marked?: string;
  onFold?: (group: string) => void;
};

const factorWords = (f: string) => f.charAt(0).toUpperCase() + f.slice(1);

/** A row for each factor that varies, with the level of each column: equal neighbours are one. */
export function Head({ model, heads, cell, columns, first, last, label, height, marked, onFold }: HeadProps) {
  const busyKey = useSyncExternalStore(model.subscribe, () => [...model.busy()].sort().join("\n"));
  const busy = new Set(busyKey.split("\n"));
  const top = columns[0]?.group ? bandHeight : 0;
  return (
    <div role="row" aria-rowindex={1} className="sticky top-0 z-20 border-b border-rule bg-paper" style={{ height }}>
      <span
        role="columnheader"
        aria-colindex={1}
        className="sticky left-0 z-10 block bg-paper text-sm text-soft"
        style={{ width: label, height: height - 1 }}
      >
        <span className="sr-only">Case</span>
        {heads.map((f, i) => (
          <span
            key={f}
            aria-hidden="true"
            className="absolute right-0 left-0 flex items-center justify-end truncate pr-3"
            style={{ top: top + i * levelHeight, height: levelHeight }}
          >
            {factorWords(f)}
          </span>
        ))}
      </span>
      <Bands columns={columns} label={label} cell={cell} onFold={onFold} />
      {heads.map((f, i) =>
        merged(columns, heads.slice(0, i + 1)).map(
          (m) =>
            m.from <= last &&
            m.to >= first && (
              <span
                key={`${f} ${m.from}`}
                aria-hidden="true"
                title={m.words}
                className="absolute overflow-hidden border-l border-rule pl-1 text-sm whitespace-nowrap text-soft"
                style={{
                  left: label + m.from * cell,
                  width: (m.to - m.from + 1) * cell,
                  top: top + i * levelHeight,
                  height: levelHeight,
                  lineHeight: `${levelHeight}px`,
                }}
              >
                <span className="block truncate">{m.words}</span>
              </span>
            ),
        ),
      )}
      {columns.slice(first, last + 1).map((c, i) => (
        <Tip
          key={c.key}
          side="bottom"
          words={
            c.members
              ? `${c.group}: ${c.members.map((m) => combinationLabel(m.combination)).join("; ")}`
              : combinationWhole(c.combination)
          }
        >
          <span
            role="columnheader"
            aria-colindex={first + i + 2}
            className={`absolute bottom-0 flex items-end justify-center ${c.key === marked ? "border-b-2 border-ink" : ""}`}
            style={{ left: label + (first + i) * cell, width: cell, height: Math.max(levelHeight, height - top) }}
          >
            <span className="sr-only">{c.members ? nameOf(c) : combinationWhole(c.combination)}</span>
            {busy.has(c.key) && <span className="verdict verdict-running mb-0.5" aria-hidden="true" />}
          </span>
        </Tip>
      ))}
    </div>
  );
}

/** The runs of neighbours that are alike in these factors, and the words for the last of them. */
function merged(columns: Column[], factors: string[]): { from: number; to: number; words: string }[] {
  const out: { key: string; from: number; to: number; words: string }[] = [];
  columns.forEach((c, i) => {
    const levels = c.members ? [c.key] : factors.map((f) => levelOf(c.combination, f));
    const key = [c.group, ...levels].join("\n");
    const last = out[out.length - 1];
    if (last?.key === key) last.to = i;
    else
      out.push({
        key,
        from: i,
        to: i,
        words: c.members
          ? factors.length === 1
            ? `all ${c.members.length}`
            : ""
          : levelShort(c.combination, factors[factors.length - 1]!),
      });
  });
  return out;
}

/** The groups that columns are put together in, over them. One that is opened or folded stays where it is. */
function Bands({
  columns,
  label,
  cell,
  onFold,
}: {
  columns: Column[];
  label: number;
  cell: number;
  onFold?: (group: string) => void;
}) {
  const bands: { group: string; from: number; n: number; folded: boolean }[] = [];
  columns.forEach((c, i) => {
    const last = bands[bands.length - 1];
    if (!c.group) return;
    if (last?.group === c.group) last.n++;
    else bands.push({ group: c.group, from: i, n: 1, folded: !!c.members });
  });
  return bands.map((b) => (
    <span
      key={b.group}
      role="columnheader"
      aria-colspan={b.n}
      className="absolute top-0"
      style={{ left: label + b.from * cell, width: b.n * cell - 1, height: bandHeight - 2 }}
    >
      <Tip side="bottom" words={`${b.group}: ${b.folded ? "open" : "fold into one column"}`}>
        <button
          onClick={() => onFold?.(b.group)}
          aria-expanded={!b.folded}
          aria-label={`${b.group}, ${b.folded ? "folded" : `${b.n} combinations`}`}
          className="flex h-full w-full items-center gap-1 overflow-hidden border-b border-l border-rule px-1 text-sm whitespace-nowrap hover:bg-wash"
        >
          <span aria-hidden="true">{b.folded ? "▸" : "▾"}</span>
          {b.n * cell > 44 && <span className="overflow-hidden text-ellipsis">{b.group}</span>}
        </button>
      </Tip>
    </span>
  ));
}
