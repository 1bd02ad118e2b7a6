import { memo, useSyncExternalStore } from "react";
import { type Column, type Crossing, type Row, type Weave as Model } from "../../data/weave";
import { Shape, verdictWords } from "../verdict";
import { nameOf } from "./head";
import { rowHeight, suiteHeight } from "./sizes";

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

export const RowLine = memo(function RowLine({
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
