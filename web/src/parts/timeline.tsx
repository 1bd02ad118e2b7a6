import { seconds } from "../data/time";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useMemo, useRef, useState, type RefObject } from "react";
import type { Step } from "../data/api";
import { type Call } from "../data/calls";
import { firstCall, lastBefore, moments, type Log } from "../data/log";
import { type Figure, type Readings } from "../data/readings";
import { Trouble } from "./plain";
import { CallCell, LogCell, ReadingCell, StepCell } from "./timeline/cells";
import { InFull } from "./timeline/in-full";

export const rowHeight = 22;

/** The row that a place on the sheet belongs to, -1 for none. */
const rowOf = (at: EventTarget) =>
  Number((at as HTMLElement).closest<HTMLElement>("[role=option]")?.id.slice("moment-".length) ?? -1);

export type Column = "steps" | "log" | "network" | "readings";

export type Moved = { ms: number; by: number }; // from outside; by grows with each

type Props = {
  columns: Column[];
  steps: Step[];
  log: Log;
  calls: Call[];
  readings?: Readings;
  figure?: Figure;
  failing: number;
  chosen?: boolean; // somebody has chosen these columns
  moved?: Moved;
  onMoment: (ms: number) => void;
  trouble: unknown;
};

const widths: Record<Column, string> = {
  steps: "minmax(0,1.1fr)",
  log: "minmax(0,1.2fr)",
  network: "minmax(0,1fr)",
  readings: "104px",
};

const heads: Record<Column, string> = { steps: "Steps", log: "Log", network: "Network", readings: "Readings" };

/** What happened, as columns of one sheet: the same height is the same moment. */
export function Timeline({
  columns: asked,
  steps,
  log,
  calls,
  readings,
  figure,
  failing,
  chosen,
  moved,
  onMoment,
  trouble,
}: Props) {
  const box = useRef<HTMLDivElement>(null);
  const room = useRoom(box);
  // Where there is little room, steps and log share one column, and the rest is folded away unless it is asked for.
  const shared = room > 0 && room < 640 && asked.includes("steps") && asked.includes("log");
  const columns = useMemo(
    () => (shared && !chosen ? asked.filter((c) => c === "steps" || c === "log") : asked),
    [asked, shared, chosen],
  );
  const drawn = useMemo(() => (shared ? columns.filter((c) => c !== "log") : columns), [columns, shared]);
  const rows = useMemo(
    () =>
      moments(
        columns.includes("steps") ? steps : [],
        columns.includes("log") ? log : { length: 0, times: [] },
        columns.includes("network") ? calls : [],
      ),
    [columns, steps, log, calls],
  );
  const failingRow = useMemo(() => rows.indexOf(-1 - failing), [rows, failing]);
  const [at, setAt] = useState(Math.max(0, failingRow));
  const [pointed, setPointed] = useState<number>();
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 8,
  });
  useLayoutEffect(() => {
    if (failing >= 0 && failingRow >= 0) {
      setAt(failingRow);
      virtual.scrollToIndex(failingRow, { align: "center" });
    }
    // only where it opens, or other columns are chosen
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [rows]);
  const startOf = (i: number) => {
    const m = rows[i]!;
    return m < 0 ? steps[-1 - m]!.at_ms : m >= firstCall ? calls[m - firstCall]!.at : log.times[m]!;
  };
  const timeOf = (i: number) => {
    const m = rows[i]!;
    return m < 0 ? steps[-1 - m]!.at_ms + steps[-1 - m]!.took_ms : startOf(i);
  };
  useEffect(() => {
    if (!moved || rows.length === 0) return;
    const i = Math.max(0, lastBefore(startOf, rows.length, moved.ms + 0.5));
    setAt(i);
    setPointed(undefined);
    virtual.scrollToIndex(i, { align: "auto" });
    // only when something else was pointed at
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [moved]);
  const go = (i: number) => {
    const next = Math.max(0, Math.min(rows.length - 1, i));
    setAt(next);
    setPointed(undefined);
    virtual.scrollToIndex(next);
    onMoment(timeOf(next));
  };
  const most = useMemo(() => (figure ? figure.values.reduce((a, b) => (b > a ? b : a), 0) : 0), [figure]);
  const longest = useMemo(() => calls.reduce((a, c) => Math.max(a, c.took), 1), [calls]);
  const template = { gridTemplateColumns: `52px ${drawn.map((c) => widths[c]).join(" ")}` };
  const items = virtual.getVirtualItems();
  const slots = Math.max(64, 2 ** Math.ceil(Math.log2(items.length + 1)));
  const count: Record<Column, string> = {
    steps: "",
    log: log.length > 1000 ? `, ${log.length.toLocaleString()} lines` : "",
    network: calls.length > 0 ? `, ${calls.length.toLocaleString()} ${calls.length === 1 ? "call" : "calls"}` : "",
    readings: "",
  };
  return (
    <div className="flex h-full flex-col">
      <div
        style={template}
        className="grid flex-none gap-x-2 overflow-hidden border-b border-rule px-3 py-1 text-sm text-soft [scrollbar-gutter:stable]"
      >
        <span className="text-right">s</span>
        {drawn.map((c, i) => (
          <span key={c} className={`truncate ${i === 0 && c === "steps" ? "pl-4" : ""}`}>
            {c === "readings" && figure
              ? figure.name
              : c === "steps" && shared
                ? `Steps and log${count.log}`
                : heads[c]}
            {count[c]}
          </span>
        ))}
      </div>
      {trouble !== null && trouble !== undefined && <Trouble of={trouble} />}
      <div
        ref={box}
        tabIndex={0}
        role="listbox"
        aria-label="Moments"
        aria-activedescendant={rows.length ? `moment-${at}` : undefined}
        data-log={log.length}
        data-calls={calls.length}
        className="min-h-0 flex-1 overflow-auto [scrollbar-gutter:stable]"
        onMouseMove={(e) => {
          const i = rowOf(e.target);
          if (i < 0 || i === pointed) return;
          setPointed(i);
          onMoment(timeOf(i));
        }}
        onClick={(e) => {
          const i = rowOf(e.target);
          if (i >= 0) go(i);
        }}
        onKeyDown={(e) => {
          const step: Record<string, number> = {
            ArrowDown: at + 1,
            ArrowUp: at - 1,
            PageDown: at + 20,
            PageUp: at - 20,
            Home: 0,
            End: rows.length - 1,
          };
          if (step[e.key] === undefined || e.ctrlKey || e.metaKey) return;
          e.preventDefault();
          go(step[e.key]!);
        }}
      >
        <div style={{ height: virtual.getTotalSize() }} className="relative" role="presentation">
          {items.map((v) => {
            const m = rows[v.index]!;
            const here = v.index === at;
            const s = m < 0 ? steps[-1 - m]! : undefined;
            const bad = s && s.verdict !== "pass";
            const key = v.index % slots; // rows that scroll out are used again for those that scroll in
            const ground = bad
              ? s.verdict === "fail"
                ? "bg-vermilion-wash"
                : "bg-petrol-wash"
              : here
                ? "bg-wash"
                : "hover:bg-wash";
            return (
              <div
                key={key}
                id={`moment-${v.index}`}
                role="option"
                aria-selected={here}
                style={{ ...template, transform: `translateY(${v.start}px)`, height: rowHeight, contain: "strict" }}
                className={`absolute inset-x-0 grid items-center gap-x-2 px-3 ${ground}`}
              >
                <span className="text-right font-mono text-sm text-faint">{seconds(startOf(v.index))}</span>
                {drawn.map((c) => {
                  switch (c) {
                    case "steps":
                      if (shared && m >= 0 && m < firstCall) return <LogCell key={c} log={log} i={m} within />;
                      return s ? <StepCell key={c} s={s} bad={!!bad} /> : <span key={c} />;
                    case "log":
                      return m >= 0 && m < firstCall ? <LogCell key={c} log={log} i={m} /> : <span key={c} />;
                    case "network":
                      return m >= firstCall ? (
                        <CallCell key={c} call={calls[m - firstCall]!} longest={longest} />
                      ) : (
                        <span key={c} />
                      );
                    case "readings":
                      return (
                        <ReadingCell
                          key={c}
                          readings={readings}
                          figure={figure}
                          most={most}
                          from={startOf(v.index)}
                          to={v.index + 1 < rows.length ? startOf(v.index + 1) : Infinity}
                        />
                      );
                  }
                })}
              </div>
            );
          })}
        </div>
        {rows.length === 0 && <p className="px-5 py-3 text-soft">Nothing of these columns was kept of this attempt.</p>}
      </div>
      {rows.length > 0 && (
        <InFull m={rows[Math.min(pointed ?? at, rows.length - 1)]!} steps={steps} log={log} calls={calls} />
      )}
    </div>
  );
}

/** How wide an element is. */
export function useRoom(of: RefObject<HTMLElement | null>): number {
  const [room, set] = useState(0);
  useLayoutEffect(() => {
    const el = of.current;
    if (!el) return;
    const see = new ResizeObserver(() => set(el.clientWidth));
    see.observe(el);
    set(el.clientWidth);
    return () => see.disconnect();
  }, [of]);
  return room;
}
