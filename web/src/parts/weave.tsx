import { useVirtualizer } from "@tanstack/react-virtual";
import {
  memo,
  useCallback,
  useEffect,
  useMemo,
  useRef,
  useState,
  useSyncExternalStore,
  type KeyboardEvent,
} from "react";
import {
  combinationLabel,
  combinationWhole,
  levelOf,
  levelShort,
  type Column,
  type Crossing,
  type Row,
  type Weave as Model,
} from "../data/weave";
import { Tip } from "./plain";
import { useRoom } from "./timeline";
import { Shape, verdictWords } from "./verdict";

const narrowest = 26;
const widest = 132;
const levelHeight = 22;
const rowHeight = 24;
const suiteHeight = 30;
const bandHeight = 26;

/** What a column is called: a folded group by its level and how many it holds. */
const nameOf = (c: Column) =>
  c.members
    ? `${c.group}, all ${c.members.length}`
    : combinationLabel(c.combination)
        .split(", ")
        .filter((part) => part !== c.group)
        .join(", ");

type Props = {
  model: Model;
  open?: { leg: number; index: number };
  onOpen: (x: Crossing) => void;
  onFold?: (group: string) => void;
  narrow: boolean;
};

/** Cases as rows, combinations as columns, a verdict's shape at each crossing. */
export const Weave = memo(function Weave({ model, open, onOpen, onFold, narrow }: Props) {
  const box = useRef<HTMLDivElement>(null);
  useSyncExternalStore(model.subscribe, () => model.version);
  const { rows, columns } = model;
  const label = narrow ? 180 : 270;
  const grouped = !!columns[0]?.group;
  const heads = useMemo(() => (columns.length > 0 ? model.heads() : []), [model, columns]);
  const head = (grouped ? bandHeight : 0) + heads.length * levelHeight + 6;
  const room = useRoom(box);
  const cell = Math.max(narrowest, Math.min(widest, Math.floor((room - label - 12) / Math.max(1, columns.length))));

  const down = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => rowHeight + (rows[i]?.first ? suiteHeight : 0),
    overscan: 8,
    paddingStart: head,
    scrollPaddingStart: head,
    getItemKey: (i) => rows[i]?.key ?? i,
  });
  const across = useVirtualizer({
    horizontal: true,
    count: columns.length,
    getScrollElement: () => box.current,
    estimateSize: () => cell,
    overscan: 6,
    paddingStart: label,
    scrollPaddingStart: label,
  });
  useEffect(() => {
    down.measure();
    across.measure();
  }, [down, across, rows, columns, label, head, cell]);

  // One crossing is current for the keyboard; it is told by aria-activedescendant.
  const [current, setCurrent] = useState<{ row: string; column: string }>();
  const at = {
    row: Math.max(
      0,
      rows.findIndex((r) => r.key === current?.row),
    ),
    column: Math.max(
      0,
      columns.findIndex((c) => c.key === current?.column),
    ),
  };
  const move = useCallback(
    (row: number, column: number) => {
      const r = rows[Math.max(0, Math.min(rows.length - 1, row))];
      const c = columns[Math.max(0, Math.min(columns.length - 1, column))];
      if (!r || !c) return;
      setCurrent({ row: r.key, column: c.key });
      down.scrollToIndex(rows.indexOf(r));
      across.scrollToIndex(columns.indexOf(c));
    },
    [rows, columns, down, across],
  );
  const seek = (step: 1 | -1) => {
    const n = rows.length * columns.length;
    let i = current ? at.row * columns.length + at.column : step === 1 ? -1 : n;
    for (i += step; i >= 0 && i < n; i += step) {
      const row = rows[Math.floor(i / columns.length)];
      const x = row && model.crossing(row, columns[i % columns.length]!);
      if (x && (x.verdict === "fail" || x.verdict === "error" || x.flaky))
        return move(Math.floor(i / columns.length), i % columns.length);
    }
  };
  const press = (e: KeyboardEvent) => {
    const does: Record<string, () => void> = {
      ArrowDown: () => move(current ? at.row + 1 : 0, at.column),
      ArrowUp: () => move(at.row - 1, at.column),
      ArrowRight: () => move(at.row, current ? at.column + 1 : 0),
      ArrowLeft: () => move(at.row, at.column - 1),
      Home: () => move(at.row, 0),
      End: () => move(at.row, columns.length - 1),
      PageDown: () => move(at.row + 12, at.column),
      PageUp: () => move(at.row - 12, at.column),
      j: () => seek(1),
      k: () => seek(-1),
      Enter: () => {
        const x = rows[at.row] && columns[at.column] && model.crossing(rows[at.row]!, columns[at.column]!);
        if (x) onOpen(x);
      },
    };
    if (e.ctrlKey || e.metaKey || e.altKey || !does[e.key]) return;
    e.preventDefault();
    does[e.key]!();
  };
  const openAt = open && model.find(open.leg, open.index);
  const visible = across.getVirtualItems();
  const first = visible[0]?.index ?? 0;
  const last = visible[visible.length - 1]?.index ?? -1;

  return (
    <div
      ref={box}
      role="grid"
      aria-label="Cases by combinations"
      aria-rowcount={rows.length + 1}
      aria-colcount={columns.length + 1}
      aria-activedescendant={current ? `x-${at.row}-${at.column}` : undefined}
      tabIndex={0}
      onKeyDown={press}
      onFocus={() => !current && openAt && setCurrent({ row: openAt.row.key, column: openAt.column })}
      className="group relative h-full overflow-auto border-b border-strong"
    >
      <div
        style={{ height: down.getTotalSize(), width: across.getTotalSize() + 8, minWidth: "100%" }}
        className="relative"
        role="presentation"
      >
        <Head
          model={model}
          heads={heads}
          cell={cell}
          columns={columns}
          first={first}
          last={last}
          label={label}
          height={head}
          marked={openAt?.column ?? current?.column}
          onFold={onFold}
        />
        {down.getVirtualItems().map((v) => {
          const row = rows[v.index];
          if (!row) return null;
          return (
            <RowLine
              key={row.key}
              model={model}
              row={row}
              number={v.index}
              top={v.start}
              label={label}
              cell={cell}
              columns={columns}
              first={first}
              last={last}
              end={narrow || label + columns.length * cell + 180 > room ? -1 : label + columns.length * cell + 12}
              current={current?.row === row.key ? current.column : ""}
              openColumn={openAt?.row === row ? openAt.column : ""}
              onOpen={onOpen}
            />
          );
        })}
      </div>
    </div>
  );
});

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
function Head({ model, heads, cell, columns, first, last, label, height, marked, onFold }: HeadProps) {
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

type LineProps = {
  model: Model;
  row: Row;
  number: number;
  top: number;
  label: number;
  cell: number;
  columns: Column[];
  first: number;
  last: number;
  end: number;
  current: string;
  openColumn: string;
  onOpen: (x: Crossing) => void;
};

const RowLine = memo(function RowLine({
  model,
  row,
  number,
  top,
  label,
  cell,
  columns,
  first,
  last,
  end,
  current,
  openColumn,
  onOpen,
}: LineProps) {
  useSyncExternalStore(model.subscribe, () => row.version);
  const note = end < 0 ? "" : noteOf(row);
  return (
    <div
      className="absolute left-0 w-full"
      style={{ top, height: rowHeight + (row.first ? suiteHeight : 0), contain: "layout style" }}
      role="row"
      aria-rowindex={number + 2}
    >
      {row.first && (
        <span
          className="sticky left-0 flex items-end pb-1 font-semibold"
          style={{ height: suiteHeight, width: label }}
          role="presentation"
        >
          <span className="truncate">{row.suite}</span>
        </span>
      )}
      <span
        role="rowheader"
        aria-colindex={1}
        title={row.name}
        className={`sticky left-0 z-10 flex items-center bg-paper pr-3 ${openColumn ? "font-medium" : ""}`}
        style={{ height: rowHeight, width: label }}
      >
        <span className="truncate">{row.name}</span>
      </span>
      {columns.slice(first, last + 1).map((c, i) => {
        const x = model.crossing(row, c);
        const left = label + (first + i) * cell;
        if (!x)
          return (
            <span
              key={c.key}
              role="gridcell"
              aria-colindex={first + i + 2}
              aria-label="not run here"
              className="absolute bottom-0"
              style={{ left, width: cell, height: rowHeight }}
            />
          );
        return (
          <Knot
            key={c.key}
            id={`x-${number}-${first + i}`}
            column={first + i}
            left={left}
            width={cell}
            crossing={x}
            verdict={x.verdict}
            flaky={x.flaky}
            recovered={x.recovered}
            running={x.running}
            name={`${row.name}, ${c.members ? nameOf(c) : c.label}`}
            current={current === c.key}
            open={openColumn === c.key}
            onOpen={onOpen}
          />
        );
      })}
      {note && (
        <span
          className="absolute bottom-0 flex items-center text-sm whitespace-nowrap text-soft"
          style={{ left: end, height: rowHeight }}
          aria-hidden="true"
        >
          {note}
        </span>
      )}
    </div>
  );
});

/** What a row says at a glance, where there is room for it. */
function noteOf(row: Row): string {
  const all = [...row.crossings.values()];
  const parts = [
    ["fails", all.filter((x) => x.verdict === "fail" && !x.flaky).length],
    ["flaky", all.filter((x) => x.flaky).length],
    ["error", all.filter((x) => x.verdict === "error").length],
    ["skipped", all.filter((x) => x.verdict === "skip").length],
  ] as const;
  return parts
    .filter(([, n]) => n > 0)
    .map(
      ([word, n]) =>
        `${word} in ${n === all.length ? (n === 1 ? "the only one" : `all ${n}`) : `${n} of ${all.length}`}`,
    )
    .join(", ");
}

type KnotProps = {
  id: string;
  column: number;
  left: number;
  width: number;
  crossing: Crossing;
  verdict: string;
  flaky: boolean;
  recovered: boolean;
  running: boolean;
  name: string;
  current: boolean;
  open: boolean;
  onOpen: (x: Crossing) => void;
};

const Knot = memo(function Knot({
  id,
  column,
  left,
  width,
  crossing,
  verdict,
  flaky,
  recovered,
  running,
  name,
  current,
  open,
  onOpen,
}: KnotProps) {
  return (
    <span
      id={id}
      role="gridcell"
      aria-colindex={column + 2}
      aria-selected={open}
      aria-label={`${name}: ${verdictWords(verdict, flaky, running, recovered)}`}
      title={crossing.sentence || undefined}
      onClick={() => onOpen(crossing)}
      className={`crossing absolute bottom-0 grid cursor-pointer place-items-center hover:bg-wash ${open ? "bg-picked" : ""} ${current ? "group-focus-visible:outline-2 group-focus-visible:-outline-offset-2 group-focus-visible:outline-petrol" : ""}`}
      style={{ left, width, height: rowHeight }}
      data-verdict={flaky ? "flaky" : recovered ? "recovered" : running ? "running" : verdict}
    >
      <span className="knot">
        <Shape of={verdict} flaky={flaky} recovered={recovered} running={running} silent />
      </span>
    </span>
  );
});
