import { useMemo, useRef, useState, type PointerEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { inProject, outdated, post, useGet, type CalendarEntry, type Plan } from "../data/api";
import { plural } from "../data/time";
import { undo } from "../data/undo";
import { Command, Heading, Modal, Trouble, Waiting } from "../parts/plain";
import { moment } from "../parts/plans";
import { Shape, verdictWords } from "../parts/verdict";

const lineHeight = 24;
const flagWidth = 150;
const weekday = new Intl.DateTimeFormat(undefined, { weekday: "short", day: "numeric", month: "short" });
const clock = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const nowhere = "no site yet";

/** The Monday on which a week begins, in this browser's time zone. */
function monday(of: Date): Date {
  const d = new Date(of.getFullYear(), of.getMonth(), of.getDate());
  d.setDate(d.getDate() - ((d.getDay() + 6) % 7));
  return d;
}

const isoDay = (d: Date) =>
  `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, "0")}-${String(d.getDate()).padStart(2, "0")}`;

type Flag = { entry: CalendarEntry; left: number; width: number; line: number };

/** What plans started in a week and will start, a lane for each site. */
export function CalendarPage() {
  const [params, set] = useSearchParams();
  const asked = params.get("week");
  const begin = useMemo(() => monday(asked ? new Date(`${asked}T12:00:00`) : new Date()), [asked]);
  const end = useMemo(() => {
    const e = new Date(begin);
    e.setDate(e.getDate() + 7);
    return e;
  }, [begin]);
  const path = `calendar?from=${begin.toISOString()}&until=${end.toISOString()}`;
  const list = useGet<CalendarEntry[]>(path, { refetchInterval: 10_000, placeholderData: (b) => b });
  const plans = useGet<Plan[]>("plans", { refetchInterval: 30_000 });
  const lacking = (plans.data ?? []).filter((p) => p.lacks && (p.next ?? p.starts.length > 0));
  const [open, setOpen] = useState<CalendarEntry>();
  const [trouble, setTrouble] = useState<unknown>();
  const [feed, setFeed] = useState<string>();
  const days = Array.from({ length: 7 }, (_, i) => {
    const d = new Date(begin);
    d.setDate(d.getDate() + i);
    return d;
  });
  const go = (weeks: number) => {
    const d = new Date(begin);
    d.setDate(d.getDate() + 7 * weeks);
    set({ week: isoDay(d) }, { replace: true });
  };
  const move = (e: CalendarEntry, when: Date) => {
    const to = new Date(Math.floor(when.getTime() / 60_000) * 60_000); // starts are at whole minutes
    void post(inProject(`plans/${encodeURIComponent(e.plan)}/moves`), { from: e.at, to: to.toISOString() }).then(() => {
      setTrouble(undefined);
      setOpen(undefined);
      outdated("calendar", "plans");
      undo.offer(`The start of ${e.plan} is at ${moment(to.toISOString())} now.`, () =>
        post(inProject(`plans/${encodeURIComponent(e.plan)}/moves`), { from: to.toISOString(), to: e.at }).then(() =>
          outdated("calendar", "plans"),
        ),
      );
    }, setTrouble);
  };
  const lanes = useMemo(() => lanesOf(list.data ?? []), [list.data]);
  return (
    <div className="mx-auto flex h-full max-w-[1600px] flex-col px-5 pt-5">
      <Heading
        title="Calendar"
        about="What plans started and will start, a lane for each site. Drag a start to another time, or open it."
      >
        <button className="button" onClick={() => go(-1)}>
          The week before
        </button>
        <button className="button" onClick={() => set({}, { replace: true })}>
          This week
        </button>
        <button className="button" onClick={() => go(1)}>
          The week after
        </button>
        <button
          className="button"
          onClick={() =>
            void post<{ address: string }>(inProject("calendar/feed"), {}).then((f) => setFeed(f.address), setTrouble)
          }
        >
          Address for calendars
        </button>
      </Heading>
      {feed && (
        <p className="pb-3" role="status">
          <Command>{feed}</Command>
          <span className="block text-soft">
            Whoever has this address reads the calendar (iCalendar). The one before is no longer read.
          </span>
        </p>
      )}
      {trouble !== undefined && <Trouble of={trouble} />}
      {lacking.map((p) => (
        <p key={p.name} role="status" className="pb-1 text-petrol">
          <Link className="link" to={`/plans/${encodeURIComponent(p.name)}`}>
            {p.name}
          </Link>{" "}
          could not be started now: {p.lacks}
        </p>
      ))}
      {list.error && <Trouble of={list.error} retry={() => void list.refetch()} />}
      {list.isPending && <Waiting what="the calendar" />}
      {list.data && (
        <div className="min-h-0 flex-1 overflow-auto pb-4" tabIndex={0} role="region" aria-label="The week">
          <div className="relative min-w-[1000px]">
            <div
              className="sticky top-0 z-10 grid border-b border-strong bg-paper"
              style={{ gridTemplateColumns: "90px repeat(7, 1fr)" }}
            >
              <span className="text-sm text-soft">Site</span>
              {days.map((d) => (
                <span
                  key={isoDay(d)}
                  className={`border-l border-rule px-1 text-sm ${isoDay(d) === isoDay(new Date()) ? "font-semibold" : "text-soft"}`}
                >
                  {weekday.format(d)}
                </span>
              ))}
            </div>
            {lanes.length === 0 && (
              <p className="py-6 text-soft">
                Nothing started in this week, and nothing will.{" "}
                <Link className="link" to="/new-plan">
                  Write a plan
                </Link>{" "}
                with <Command>when:</Command>
              </p>
            )}
            {lanes.map(([site, entries]) => (
              <Lane key={site} site={site} entries={entries} begin={begin} end={end} onOpen={setOpen} onMove={move} />
            ))}
          </div>
        </div>
      )}
      {open && (
        <Details entry={open} onClose={() => setOpen(undefined)} onMove={(to) => move(open, to)} trouble={trouble} />
      )}
    </div>
  );
}

function lanesOf(list: CalendarEntry[]): [string, CalendarEntry[]][] {
  const by = new Map<string, CalendarEntry[]>();
  for (const e of list) for (const s of e.sites.length ? e.sites : [nowhere]) by.set(s, [...(by.get(s) ?? []), e]);
  return [...by.entries()].sort((a, b) => a[0].localeCompare(b[0]));
}

type LaneProps = {
  site: string;
  entries: CalendarEntry[];
  begin: Date;
  end: Date;
  onOpen: (e: CalendarEntry) => void;
  onMove: (e: CalendarEntry, to: Date) => void;
};

function Lane({ site, entries, begin, end, onOpen, onMove }: LaneProps) {
  const box = useRef<HTMLDivElement>(null);
  const span = end.getTime() - begin.getTime();
  const now = (Date.now() - begin.getTime()) / span;
  // Flags that would lie over each other stand on lines of their own.
  const flags: Flag[] = [];
  const free: number[] = [];
  for (const entry of entries) {
    const left = (Date.parse(entry.at) - begin.getTime()) / span;
    const lasted = entry.finished_at ? (Date.parse(entry.finished_at) - Date.parse(entry.at)) / span : 0;
    const width = Math.max(lasted, 0);
    let line = free.findIndex((f) => f <= left);
    if (line < 0) line = free.push(0) - 1;
    free[line] = left + Math.max(width, flagWidth / 1110);
    flags.push({ entry, left, width, line });
  }
  return (
    <div
      className="grid border-b border-rule"
      style={{ gridTemplateColumns: "90px 1fr" }}
      role="group"
      aria-label={`Site ${site}`}
    >
      <span className={`pt-1 ${site === nowhere ? "text-faint" : "font-medium"}`}>{site}</span>
      <div
        ref={box}
        className="relative"
        style={{
          height: Math.max(1, free.length) * lineHeight + 12,
          backgroundImage: "linear-gradient(to right, var(--rule) 1px, transparent 1px)",
          backgroundSize: `${100 / 7}% 100%`,
        }}
      >
        {now > 0 && now < 1 && (
          <span
            className="absolute inset-y-0 border-l border-vermilion"
            style={{ left: `${now * 100}%` }}
            aria-hidden="true"
          />
        )}
        {flags.map((f) => (
          <FlagOf
            key={`${f.entry.plan} ${f.entry.at} ${f.entry.run ?? ""}`}
            flag={f}
            box={box}
            span={span}
            onOpen={onOpen}
            onMove={onMove}
          />
        ))}
      </div>
    </div>
  );
}

function wordsOf(e: CalendarEntry): string {
  if (e.run !== undefined)
    return `run ${e.run}, ${e.run_state === "finished" ? verdictWords(e.verdict ?? "none") : e.run_state}`;
  if (e.coming) return e.moved_from ? "will start, moved" : "will start";
  return e.told ? `${e.state}: ${e.told}` : e.state;
}

type FlagProps = {
  flag: Flag;
  box: React.RefObject<HTMLDivElement | null>;
  span: number;
  onOpen: (e: CalendarEntry) => void;
  onMove: (e: CalendarEntry, to: Date) => void;
};

function FlagOf({ flag, box, span, onOpen, onMove }: FlagProps) {
  const e = flag.entry;
  const [drag, setDrag] = useState<{ from: number; by: number }>();
  const pixels = () => box.current?.clientWidth ?? 1;
  const target = (by: number) => {
    const t = Date.parse(e.at) + (by / pixels()) * span;
    return new Date(Math.round(t / 900_000) * 900_000); // quarters of an hour
  };
  const down = (p: PointerEvent<HTMLButtonElement>) => {
    if (!e.coming || p.button !== 0) return;
    p.currentTarget.setPointerCapture(p.pointerId);
    setDrag({ from: p.clientX, by: 0 });
  };
  const up = () => {
    if (drag && Math.abs(drag.by) > 4) onMove(e, target(drag.by));
    else onOpen(e);
    setDrag(undefined);
  };
  const moving = drag && Math.abs(drag.by) > 4;
  const label = `${e.plan}, ${moment(e.at)}, ${wordsOf(e)}`;
  return (
    <button
      title={label}
      onPointerDown={down}
      onPointerMove={(p) => drag && setDrag({ ...drag, by: p.clientX - drag.from })}
      onPointerUp={drag ? up : undefined}
      onPointerCancel={() => setDrag(undefined)}
      onClick={(c) => (!e.coming || c.detail === 0) && onOpen(e)}
      className={`absolute flex h-[21px] items-center gap-1 overflow-hidden border-l-2 pl-1 text-left text-sm whitespace-nowrap ${e.coming ? "cursor-grab border-dashed border-strong text-soft" : "border-ink"} ${moving ? "z-20 bg-picked" : "hover:bg-wash"}`}
      style={{
        left: `calc(${flag.left * 100}% + ${drag?.by ?? 0}px)`,
        top: 5 + flag.line * lineHeight,
        maxWidth: `min(${flagWidth}px, ${(1 - flag.left) * 100}%)`,
        minWidth: 18,
      }}
    >
      {flag.width > 0 && (
        <span
          className="absolute inset-y-0 left-0 -z-10 bg-wash"
          style={{ width: Math.max(2, flag.width * pixels()) }}
          aria-hidden="true"
        />
      )}
      {e.run !== undefined ? (
        <Shape of={e.verdict ?? "none"} running={e.run_state === "running" || e.run_state === "queued"} silent />
      ) : (
        !e.coming && <span aria-hidden="true">×</span>
      )}
      <span className="tabular-nums">{clock.format(moving ? target(drag.by) : new Date(e.at))}</span>
      <span className="overflow-hidden text-ellipsis">{e.plan}</span>
      <span className="sr-only">
        , {moment(e.at)}, {wordsOf(e)}
      </span>
    </button>
  );
}

/** One entry, and another time for one that is to come. */
function Details({
  entry,
  onClose,
  onMove,
  trouble,
}: {
  entry: CalendarEntry;
  onClose: () => void;
  onMove: (to: Date) => void;
  trouble: unknown;
}) {
  const local = (iso: string) => {
    const d = new Date(iso);
    return `${isoDay(d)}T${String(d.getHours()).padStart(2, "0")}:${String(d.getMinutes()).padStart(2, "0")}`;
  };
  const [to, setTo] = useState(local(entry.at));
  return (
    <Modal title={entry.plan} about={`${moment(entry.at)}: ${wordsOf(entry)}`} open onClose={onClose}>
      {entry.moved_from && <p>It would have been at {moment(entry.moved_from)}.</p>}
      {entry.sites.length > 0 && (
        <p>
          {plural(entry.sites.length, "site")}: {entry.sites.join(", ")}
        </p>
      )}
      <p className="flex gap-3 py-2">
        <Link className="link" to={`/plans/${encodeURIComponent(entry.plan)}`}>
          The plan
        </Link>
        {entry.run !== undefined && (
          <Link className="link" to={`/runs/${entry.run}`}>
            Run {entry.run}
          </Link>
        )}
      </p>
      {trouble !== undefined && <Trouble of={trouble} />}
      {entry.coming && (
        <form
          className="flex items-end gap-2 border-t border-rule pt-3"
          onSubmit={(e) => {
            e.preventDefault();
            onMove(new Date(to));
          }}
        >
          <label className="block">
            <span className="block text-sm text-soft">Another time, for this one start</span>
            <input
              type="datetime-local"
              className="field"
              value={to}
              onChange={(e) => setTo(e.target.value)}
              required
            />
          </label>
          <button className="button" disabled={to === local(entry.at)}>
            Move it
          </button>
        </form>
      )}
    </Modal>
  );
}
