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
import { type Crossing, type Weave as Model } from "../data/weave";
import { useRoom } from "./timeline";
import { Head } from "./weave/head";
import { RowLine } from "./weave/rows";
import {
  bandHeight,
  busyHeight,
  footHeight,
  levelHeight,
  narrowest,
  rowHeight,
  suiteHeight,
  widest,
} from "./weave/sizes";

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
  const head =
    (grouped ? bandHeight : 0) + heads.length * levelHeight + (model.busy().size > 0 ? busyHeight : footHeight);
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
