import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState, useSyncExternalStore } from "react";
import { clock, type Line, type LogBook } from "../data/session";
import { plural } from "../data/time";
import { Pick } from "./start/pick";

const levels = ["debug", "info", "warn", "error"];

/** Which lines pass, worked out for new lines only, until what is asked for changes. */
class Sieve {
  rows: number[] = [];
  private seen = 0;
  constructor(
    private book: LogBook,
    readonly passes: (l: Line) => boolean,
  ) {}
  go() {
    const lines = this.book.lines;
    for (; this.seen < lines.length; this.seen++) {
      const l = lines[this.seen];
      if (!l) break; // what comes before is read still
      if (this.passes(l)) this.rows.push(this.seen);
    }
    return this.rows;
  }
}

/** The device's log: by level, by expression, of the app or of all; it follows until somebody scrolls up. */
export function DeviceLog({ book, app, download }: { book: LogBook; app?: string; download: string }) {
  const version = useSyncExternalStore(book.subscribe, () => book.version);
  const [level, setLevel] = useState("debug");
  const [find, setFind] = useState("");
  const [own, setOwn] = useState(false);
  const [follow, setFollow] = useState(true);
  const box = useRef<HTMLDivElement>(null);
  const { sieve, wrong } = useMemo(() => {
    let re: RegExp | undefined;
    let wrong = "";
    try {
      re = find ? new RegExp(find, "i") : undefined;
    } catch (e) {
      wrong = e instanceof Error ? e.message : "no expression";
    }
    const from = levels.indexOf(level);
    const sieve = new Sieve(
      book,
      (l) =>
        levels.indexOf(l.level) >= from && (!own || !app || l.app === app) && (!re || re.test(`${l.tag}: ${l.text}`)),
    );
    return { sieve, wrong };
  }, [book, level, find, own, app]);
  const rows = useMemo(() => {
    void version;
    return sieve.go();
  }, [sieve, version]);
  const count = rows.length;
  const virtual = useVirtualizer({ count, getScrollElement: () => box.current, estimateSize: () => 17, overscan: 30 });
  useEffect(() => {
    if (follow && count > 0) virtual.scrollToIndex(count - 1, { align: "end" });
  }, [follow, count, virtual]);
  const nextError = () => {
    const first = virtual.range?.startIndex ?? 0;
    const i = rows.findIndex((r, i) => i > first && book.lines[r]?.level === "error");
    const to = i >= 0 ? i : rows.findIndex((r) => book.lines[r]?.level === "error");
    if (to >= 0) {
      setFollow(false);
      virtual.scrollToIndex(to, { align: "start" });
    }
  };
  return (
    <section aria-label="Log" className="flex min-h-0 min-w-0 flex-1 flex-col">
      <div className="flex flex-none flex-wrap items-center gap-2 border-b border-strong pb-1.5">
        <h2 className="flex-none">Log</h2>
        <input
          type="search"
          aria-label="Find in the log, by expression"
          placeholder="Find, by expression"
          className={`field h-6 min-w-0 flex-1 ${wrong ? "border-vermilion" : ""}`}
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
        <Pick
          narrow
          label="Level"
          value={level}
          onChange={setLevel}
          options={levels.map((l): [string, string] => [
            l,
            l === "debug" ? "all levels" : l === "error" ? "errors" : `${l} and up`,
          ])}
        />
        <label className="flex flex-none items-center gap-1 text-sm">
          <input type="checkbox" checked={own} onChange={(e) => setOwn(e.target.checked)} /> app’s own
        </label>
      </div>
      {wrong && <p className="flex-none text-sm text-vermilion">{wrong}</p>}
      <div
        ref={box}
        tabIndex={0}
        role="log"
        aria-live="off"
        aria-label="Lines of the log"
        className="min-h-0 flex-1 overflow-auto font-mono text-[11.5px] leading-[17px]"
        onScroll={(e) => {
          const b = e.currentTarget;
          const atEnd = b.scrollHeight - b.scrollTop - b.clientHeight < 30;
          if (!atEnd && follow && b.scrollTop + b.clientHeight < b.scrollHeight - 60) setFollow(false);
        }}
        onWheel={(e) => e.deltaY < 0 && setFollow(false)}
      >
        {count === 0 && (
          <p className="py-2 font-sans text-sm text-soft">
            {book.lines.length === 0 ? "The device has written nothing." : "No line is like that."}
          </p>
        )}
        <div style={{ height: virtual.getTotalSize() }} className="relative">
          {virtual.getVirtualItems().map((v) => {
            const l = book.lines[rows[v.index]!];
            return (
              <div
                key={v.key}
                title={l?.text}
                className={`absolute inset-x-0 flex gap-2 overflow-hidden whitespace-pre ${l?.level === "error" ? "bg-vermilion-wash text-vermilion" : l?.level === "warn" ? "" : "text-soft"}`}
                style={{ top: v.start, height: 17 }}
              >
                <span className="w-14 flex-none text-right text-faint">{l && clock(l.at_ms)}</span>
                <span className="w-3 flex-none">{l?.level === "error" ? "■" : l?.level === "warn" ? "▲" : ""}</span>
                <span className="min-w-0 truncate">
                  <span className="text-ink">{l?.tag}</span>: {l?.text}
                </span>
              </div>
            );
          })}
        </div>
      </div>
      <div className="flex flex-none items-center gap-3 border-t border-rule pt-1 text-sm text-soft">
        <span>
          {plural(book.lines.length, "line")}
          {book.errors > 0 && (
            <>
              ,{" "}
              <button className="link text-vermilion" onClick={nextError}>
                {plural(book.errors, "error")}
              </button>
            </>
          )}
        </span>
        <span className="flex-1" />
        {!follow && (
          <button className="link" onClick={() => setFollow(true)}>
            Follow again
          </button>
        )}
        <a className="link" href={download} download>
          Download
        </a>
      </div>
    </section>
  );
}
