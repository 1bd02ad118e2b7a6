import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { Tabs } from "radix-ui";
import { useEffect, useLayoutEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { evidencePath, framePath, inProject, post, problemOf, useGet, type Evidence, type Frame, type Result, type Run, type Session, type Sheet, type SheetAttempt, type Step } from "../data/api";
import { Log, moments } from "../data/log";
import { at, lasting, size } from "../data/time";
import { combinationWhole } from "../data/weave";
import { NewFinding } from "./kept";
import { Modal, Trouble, Waiting } from "./plain";
import { Shape, VerdictWord } from "./verdict";

type Props = { run: Run; leg: number; index: number; onClose: () => void };

/** One case in one combination, attempt by attempt, as a sheet on which time runs down. */
export function AttemptSheet({ run, leg, index, onClose }: Props) {
  const sheet = useGet<Sheet>(`runs/${run.number}/legs/${leg}/cases/${index}`, { staleTime: 0 });
  const [params, set] = useSearchParams();
  const navigate = useNavigate();
  const [trouble, setTrouble] = useState<unknown>();
  const [finding, setFinding] = useState(false);
  const s = sheet.data;
  const attempts = s?.attempts ?? [];
  const telling = [...attempts].reverse().find((a) => a.result && a.result.verdict !== "pass") ?? attempts[attempts.length - 1];
  const number = Number(params.get("attempt")) || telling?.attempt.number;
  return (
    <aside aria-label="Attempt" className="flex h-full min-w-0 flex-1 flex-col border-l border-strong bg-sheet">
      <header className="flex items-start justify-between gap-4 px-5 pt-4 pb-2">
        <div className="min-w-0">
          <h2 className="text-lg leading-6">{s?.case ?? "…"}</h2>
          {s && (
            <p className="text-soft">
              {s.suite}, on {combinationWhole(s.combination)}, {s.combination.language}
            </p>
          )}
        </div>
        <div className="flex flex-none items-center gap-2">
          <button
            className="button"
            onClick={() =>
              void post<Run>(inProject(`runs/${run.number}/again`), { which: "one", leg, case_index: index, real_time: run.real_time })
                .then((r) => navigate(`/runs/${r.number}`))
                .catch(setTrouble)
            }
          >
            Run this again
          </button>
          {telling?.result && ["fail", "error"].includes(telling.result.verdict) && (
            <>
              <button
                className="button"
                onClick={() =>
                  void post<Session>(inProject("sessions"), { again: { run: run.number, leg, case: index } })
                    .then((r) => navigate(`/by-hand/${r.number}`))
                    .catch(setTrouble)
                }
              >
                By hand from there
              </button>
              <button className="button" onClick={() => setFinding(true)}>
                Make a finding
              </button>
            </>
          )}
          <button className="button" onClick={onClose}>
            Close <kbd>Esc</kbd>
          </button>
        </div>
      </header>
      {trouble !== undefined && <div className="px-5"><Trouble of={trouble} /></div>}
      <Modal title="Make a finding" about="What should be mended. Build, device, levels, the way there and the end of the log come with it." open={finding} onClose={() => setFinding(false)}>
        {finding && <NewFinding from={{ failed: { run: run.number, leg, case: index } }} title={telling?.result?.sentence?.replace(/^line \d+: /, "") ?? ""} />}
      </Modal>
      {sheet.error && !s && <div className="px-5"><Trouble of={sheet.error} retry={() => void sheet.refetch()} /></div>}
      {!s && !sheet.error && <div className="px-5"><Waiting what="the attempt" /></div>}
      {s && attempts.length === 0 && <p className="px-5 py-4 text-soft">It has not been attempted yet. This fills as soon as it is.</p>}
      {s && number !== undefined && attempts.length > 0 && (
        <Tabs.Root
          value={String(number)}
          onValueChange={(v) =>
            set(
              (p) => {
                p.set("attempt", v);
                return p;
              },
              { replace: true },
            )
          }
          className="flex min-h-0 flex-1 flex-col"
        >
          <Tabs.List aria-label="Attempts" className="flex flex-none gap-1 border-b border-strong px-4">
            {attempts.map((a) => (
              <Tabs.Trigger key={a.attempt.number} value={String(a.attempt.number)} className="flex items-center gap-1.5 border-b-2 border-transparent px-1.5 pb-1 text-soft data-[state=active]:border-ink data-[state=active]:text-ink">
                <Shape of={a.result?.verdict ?? (a.attempt.ended ? "error" : "none")} running={!a.attempt.ended && !a.result} silent />
                {a.attempt.number > 0 ? `Attempt ${a.attempt.number}` : "No attempt"}
                <span className="text-sm">{a.attempt.device}</span>
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          {attempts.map((a) => (
            <Tabs.Content key={a.attempt.number} value={String(a.attempt.number)} tabIndex={-1} className="min-h-0 flex-1">
              <Attempt run={run.number} sheet={s} a={a} />
            </Tabs.Content>
          ))}
        </Tabs.Root>
      )}
    </aside>
  );
}

type Piece = { text: string; of: "both" | "expected" | "actual" };
type Called = { file?: string; line: number; text: string };
type Failure = {
  file?: string; line: number; step: string; phase?: string; way?: Called[]; expected: string; actual: string; difference?: Piece[]; waited_ms?: number; quiet_ms?: number;
  pending_ms?: number; report?: string; candidates?: unknown[]; values?: { name: string; value: string }[]; log?: { at_ms: number; level: string; tag: string; text: string }[]; after?: string[];
};

function Attempt({ run, sheet, a }: { run: number; sheet: Sheet; a: SheetAttempt }) {
  const steps = useMemo(() => a.result?.steps ?? [], [a]);
  const logFile = a.evidence.find((e) => e.sort === "log" && e.case_index === sheet.case_index);
  const log = useQuery({
    queryKey: ["log", run, logFile?.id],
    queryFn: async () => {
      const r = await fetch(evidencePath(run, logFile!.id), { credentials: "same-origin" });
      if (!r.ok) throw await problemOf(r);
      return Log.of(await r.text());
    },
    enabled: !!logFile,
    staleTime: Infinity,
    structuralSharing: false,
    gcTime: 60_000,
  });
  const failing = steps.findIndex((s) => s.verdict === "fail" || s.verdict === "error");
  const [moment, setMoment] = useState<number>();
  const when = moment ?? (failing >= 0 ? steps[failing]!.at_ms + steps[failing]!.took_ms : (steps[steps.length - 1]?.at_ms ?? 0) + (steps[steps.length - 1]?.took_ms ?? 0));
  const ready = !logFile || !log.isPending;
  if (!a.result && !a.attempt.ended)
    return (
      <div className="px-5">
        <FailureWords a={a} />
        <p>The case is under way, or its turn is still to come in this attempt. Steps, log and pictures are here as soon as it is judged.</p>
        <p className="pt-2">
          <Link className="link" to={`/fleet/${encodeURIComponent(a.attempt.device)}?look`}>
            See the screen of {a.attempt.device} now
          </Link>
        </p>
      </div>
    );
  return (
    <div className="flex h-full flex-col">
      <FailureWords a={a} />
      <div className="flex min-h-0 flex-1">
        <div className="min-w-0 flex-1">{ready ? <Timeline steps={steps} log={log.data ?? Log.none} failing={failing} onMoment={setMoment} trouble={log.error} key={log.data ? "with log" : "without"} /> : <div className="px-5"><Waiting what="the log" /></div>}</div>
        <Pictures run={run} a={a} index={sheet.case_index} when={when} chosen={moment !== undefined} onMoment={setMoment} />
      </div>
      <EvidenceLine run={run} sheet={sheet} a={a} />
    </div>
  );
}

const lineWords = (p: { file?: string; line: number }, large: boolean) => `${p.file ? `${p.file}, ` : ""}${large && !p.file ? "Line" : "line"} ${p.line}`;

function FailureWords({ a }: { a: SheetAttempt }) {
  const r: Result | undefined = a.result;
  const f = (r?.failure ?? undefined) as Failure | undefined;
  const took = r ? `, took ${lasting(r.took_ms)} of the device's time` : "";
  if (!f)
    return (
      <p className={`flex-none py-2 ${a.result || a.attempt.ended ? "px-5" : ""}`}>
        <VerdictWord of={r?.verdict ?? "none"} running={!r && !a.attempt.ended} />
        <span className="text-soft">
          {" "}
          on {a.attempt.device}, began {at(a.attempt.began)}
          {took}
        </span>
        {a.attempt.trouble && <span className="block text-petrol">{a.attempt.trouble}</span>}
      </p>
    );
  const ink = r?.verdict === "fail" ? "border-vermilion bg-vermilion-wash" : "border-petrol bg-petrol-wash";
  return (
    <div className={`flex-none border-l-2 px-[18px] py-2 ${ink}`} role="group" aria-label="The failure">
      <p>
        {f.phase ? `${f.phase[0]!.toUpperCase()}${f.phase.slice(1)}, ` : ""}
        {lineWords(f, !f.phase)}: <code className="font-mono text-sm">{f.step}</code>
      </p>
      {[...(f.way ?? [])].reverse().map((w) => (
        <p key={`${w.file ?? ""} ${w.line} ${w.text}`} className="pl-4 text-sm text-soft">
          called on {lineWords(w, false)}: <code className="font-mono">{w.text}</code>
        </p>
      ))}
      <dl className="grid grid-cols-[68px_1fr] gap-x-2">
        <dt className="text-soft">expected</dt>
        <dd className="break-words">{f.expected}</dd>
        <dt className="text-soft">but</dt>
        <dd className="font-semibold break-words">{f.actual}</dd>
        {(f.difference?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">differs</dt>
            <dd className="font-mono text-sm break-words">
              {f.difference!.map((p, i) => (p.of === "both" ? <span key={i}>{p.text}</span> : p.of === "expected" ? <del key={i} title="expected" className="border-b-2 border-petrol text-petrol no-underline">{p.text}</del> : <ins key={i} title="was there" className="border-b-2 border-dashed border-vermilion text-vermilion no-underline">{p.text}</ins>))}
            </dd>
          </>
        )}
        {(f.values?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">values</dt>
            <dd className="font-mono text-sm break-words">{f.values!.map((v) => `$${v.name} = ${v.value}`).join(", ")}</dd>
          </>
        )}
        {(f.after?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">after</dt>
            <dd className="break-words">{f.after!.join("; ")}</dd>
          </>
        )}
      </dl>
      {a.bearing && (
        <p className="text-sm">
          {a.bearing.touched && `Looked for the same here, and passed: ${a.bearing.touched.map((t) => `“${t}”`).join(", ")}. `}
          {a.bearing.last_passed && (
            <>
              This step last passed in {a.bearing.last_passed}, <Link className="link" to={`/runs/${a.bearing.last_passed_run}`}>run {a.bearing.last_passed_run}</Link>.
            </>
          )}
        </p>
      )}
      <p className="text-sm text-soft">
        On {a.attempt.device}, began {at(a.attempt.began)}
        {took}
        {(f.waited_ms ?? 0) > 0 && `; waited ${lasting(f.waited_ms!)}, ${(f.pending_ms ?? 0) > 0 ? `an answer had been awaited for ${lasting(f.pending_ms!)}` : `nothing had changed for ${lasting(f.quiet_ms ?? 0)}`}`}
      </p>
      {(f.log?.length ?? 0) > 0 && (
        <details className="pt-1">
          <summary className="text-sm">The app’s log around it, errors first</summary>
          <pre className="max-h-40 overflow-auto font-mono text-sm whitespace-pre-wrap" tabIndex={0}>
            {f.log!.map((l) => `${(l.at_ms / 1000).toFixed(3).padStart(9)} ${l.level.padEnd(5)} ${l.tag}: ${l.text}`).join("\n")}
          </pre>
        </details>
      )}
      {f.report && (
        <details className="pt-1">
          <summary className="text-sm">Crash report</summary>
          <pre className="max-h-40 overflow-auto font-mono text-sm whitespace-pre-wrap" tabIndex={0}>
            {f.report}
          </pre>
        </details>
      )}
    </div>
  );
}

const rowHeight = 22;
/** The row that a place on the sheet belongs to, -1 for none. */
const rowOf = (at: EventTarget) => Number((at as HTMLElement).closest<HTMLElement>("[role=option]")?.id.slice("moment-".length) ?? -1);
const seconds = (ms: number) => (ms / 1000).toFixed(2);

type TimelineProps = { steps: Step[]; log: Log; failing: number; onMoment: (ms: number) => void; trouble: unknown };

/** Steps and log as two columns of one sheet: the same height is the same moment. */
function Timeline({ steps, log, failing, onMoment, trouble }: TimelineProps) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useMemo(() => moments(steps, log), [steps, log]);
  const failingRow = useMemo(() => rows.indexOf(-1 - failing), [rows, failing]);
  const [at, setAt] = useState(Math.max(0, failingRow));
  const [pointed, setPointed] = useState<number>();
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 8 });
  useLayoutEffect(() => {
    if (failing >= 0 && failingRow >= 0) virtual.scrollToIndex(failingRow, { align: "center" });
    // only where it opens
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  const timeOf = (i: number) => {
    const m = rows[i]!;
    return m < 0 ? steps[-1 - m]!.at_ms + steps[-1 - m]!.took_ms : log.times[m]!;
  };
  const go = (i: number) => {
    const next = Math.max(0, Math.min(rows.length - 1, i));
    setAt(next);
    setPointed(undefined);
    virtual.scrollToIndex(next);
    onMoment(timeOf(next));
  };
  const wide = steps.length > 0;
  const items = virtual.getVirtualItems();
  const slots = Math.max(64, 2 ** Math.ceil(Math.log2(items.length + 1)));
  return (
    <div className="flex h-full flex-col">
      <div className={`grid flex-none ${wide ? "grid-cols-[52px_minmax(0,1fr)_minmax(0,1fr)]" : "grid-cols-[52px_1fr]"} gap-x-2 border-b border-rule px-3 py-1 text-sm text-soft`}>
        <span className="text-right">s</span>
        {wide && <span className="pl-4">Steps</span>}
        <span>Log{log.length > 1000 && `, ${log.length.toLocaleString()} lines`}</span>
      </div>
      {trouble !== null && trouble !== undefined && <Trouble of={trouble} />}
      <div
        ref={box}
        tabIndex={0}
        role="listbox"
        aria-label="Moments"
        aria-activedescendant={rows.length ? `moment-${at}` : undefined}
        data-log={log.length}
        className="min-h-0 flex-1 overflow-auto"
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
          const step: Record<string, number> = { ArrowDown: at + 1, ArrowUp: at - 1, PageDown: at + 20, PageUp: at - 20, Home: 0, End: rows.length - 1 };
          if (step[e.key] === undefined || e.ctrlKey || e.metaKey) return;
          e.preventDefault();
          go(step[e.key]!);
        }}
      >
        <div style={{ height: virtual.getTotalSize() }} className="relative" role="presentation">
          {items.map((v) => {
            const m = rows[v.index]!;
            const here = v.index === at;
            const shared = { id: `moment-${v.index}`, role: "option", "aria-selected": here, style: { transform: `translateY(${v.start}px)`, height: rowHeight, contain: "strict" } };
            const key = v.index % slots; // rows that scroll out are used again for those that scroll in
            const grid = `absolute inset-x-0 grid items-center gap-x-2 px-3 ${wide ? "grid-cols-[52px_minmax(0,1fr)_minmax(0,1fr)]" : "grid-cols-[52px_1fr]"}`;
            if (m < 0) {
              const s = steps[-1 - m]!;
              const bad = s.verdict !== "pass";
              return (
                <div key={key} {...shared} className={`${grid} ${bad ? (s.verdict === "fail" ? "bg-vermilion-wash" : "bg-petrol-wash") : here ? "bg-wash" : "hover:bg-wash"}`}>
                  <span className="text-right font-mono text-sm text-faint">{seconds(s.at_ms)}</span>
                  <span className="flex min-w-0 items-center gap-2">
                    <Shape of={s.verdict} />
                    <span className={`truncate font-mono text-sm ${bad ? "font-medium" : ""}`} style={s.depth ? { paddingLeft: 12 * Math.min(s.depth, 6) } : undefined}>{s.text}</span>
                    {s.took_ms >= 500 && <span className="ml-auto flex-none text-sm text-faint">{lasting(s.took_ms)}</span>}
                  </span>
                </div>
              );
            }
            const l = log.line(m);
            return (
              <div key={key} {...shared} className={`${grid} ${here ? "bg-wash" : "hover:bg-wash"}`}>
                <span className="text-right font-mono text-sm text-faint">{seconds(l.at)}</span>
                {wide && <span />}
                <span className="truncate font-mono text-sm">
                  <span className={l.level === "error" ? "font-medium text-vermilion" : l.level === "warn" ? "font-medium text-petrol" : "text-faint"}>{l.level}</span> <span className="text-soft">{l.tag}</span> {l.text}
                </span>
              </div>
            );
          })}
        </div>
        {rows.length === 0 && <p className="px-5 py-3 text-soft">Neither steps nor log were kept of this attempt.</p>}
      </div>
      {rows.length > 0 && <InFull m={rows[pointed ?? at]!} steps={steps} log={log} />}
    </div>
  );
}

/** The moment that is pointed at, with all its words. */
function InFull({ m, steps, log }: { m: number; steps: Step[]; log: Log }) {
  const s = m < 0 ? steps[-1 - m] : undefined;
  const l = m >= 0 ? log.line(m) : undefined;
  return (
    <div className="h-[62px] flex-none overflow-auto border-t border-rule px-5 py-1.5 font-mono text-sm break-words" tabIndex={0} role="region" aria-label="The moment in full">
      {s && (
        <>
          <span className="text-soft">
            {seconds(s.at_ms)} s, line {s.line}:
          </span>{" "}
          {s.text}
          {s.note && <span className={`block ${s.verdict === "pass" ? "text-petrol" : "text-vermilion"}`}>{s.note}</span>}
        </>
      )}
      {l && (
        <>
          <span className="text-soft">
            {seconds(l.at)} s, {l.level} {l.tag}:
          </span>{" "}
          {l.text}
        </>
      )}
    </div>
  );
}

type PicturesProps = { run: number; a: SheetAttempt; index: number; when: number; chosen: boolean; onMoment: (ms: number) => void };

/** The picture of the moment, with the strip of all pictures below it. */
function Pictures({ run, a, index, when, chosen, onMoment }: PicturesProps) {
  const failure = a.evidence.find((e) => e.sort === "picture" && e.name === "failure" && e.case_index === index);
  const named = a.evidence.filter((e) => e.sort === "picture" && e.name !== "failure" && e.case_index === index);
  const frames = a.frames;
  let nearest = -1;
  for (let i = 0; i < frames.length; i++) if (frames[i]!.at_ms <= when + 1) nearest = i;
  if (nearest < 0 && frames.length > 0) nearest = 0;
  const [shown, setShown] = useState<Evidence>();
  useEffect(() => setShown(undefined), [when]);
  const atFailure = !shown && failure && (!chosen || nearest === frames.length - 1);
  const pick = shown ?? (atFailure ? failure : undefined);
  const frame = pick ? undefined : frames[nearest];
  if (!pick && !frame) return null;
  const marked = ((a.result?.failure as Failure | undefined)?.candidates?.length ?? 0) > 0;
  const words = pick ? (pick.name === "failure" ? `where it failed${marked ? ", the place marked" : ""}` : pick.name) : `at ${seconds(frame!.at_ms)} s`;
  return (
    <div className="flex w-[238px] flex-none flex-col border-l border-rule px-3 pt-2">
      <div className="min-h-0 flex-1">
        <img key={pick ? pick.id : `${frame!.evidence}/${frame!.index}`} src={pick ? evidencePath(run, pick.id) : framePath(run, frame!)} alt={`The screen ${words}`} className="max-h-full max-w-full rounded border border-rule object-contain object-top" />
      </div>
      <p className="flex-none py-1 text-sm text-soft">The screen {words}</p>
      <Strip run={run} frames={frames} nearest={atFailure || shown ? -1 : nearest} onMoment={onMoment} />
      {named.length > 0 && (
        <p className="flex-none pb-1 text-sm">
          {named.map((e) => (
            <button key={e.id} className="link mr-2" onMouseEnter={() => setShown(e)} onClick={() => setShown(e)}>
              {e.name}
            </button>
          ))}
        </p>
      )}
    </div>
  );
}

function Strip({ run, frames, nearest, onMoment }: { run: number; frames: Frame[]; nearest: number; onMoment: (ms: number) => void }) {
  const list = useRef<HTMLDivElement>(null);
  useEffect(() => {
    list.current?.children[nearest]?.scrollIntoView({ inline: "nearest", block: "nearest" });
  }, [nearest]);
  if (frames.length === 0) return null;
  return (
    <div ref={list} className="flex flex-none gap-1 overflow-x-auto pb-1.5" role="group" aria-label={`Pictures at each change, ${frames.length}`}>
      {frames.map((f, i) => (
        <button
          key={i}
          onMouseEnter={() => onMoment(f.at_ms)}
          onFocus={() => onMoment(f.at_ms)}
          onClick={() => onMoment(f.at_ms)}
          aria-label={`The screen at ${seconds(f.at_ms)} s`}
          aria-pressed={i === nearest}
          className={`flex-none overflow-hidden rounded-[2px] border ${i === nearest ? "border-ink" : "border-rule"}`}
        >
          <img loading="lazy" src={framePath(run, f)} alt="" className="h-14 w-auto" />
        </button>
      ))}
    </div>
  );
}

function EvidenceLine({ run, sheet, a }: { run: number; sheet: Sheet; a: SheetAttempt }) {
  const item = (e: Evidence): ReactNode => (
    <a key={e.id} className="link whitespace-nowrap" href={evidencePath(run, e.id)} download={fileName(e)} title={`${e.media_type}, ${size(e.size)}`}>
      {e.sort === e.name ? e.sort : `${e.sort} ${e.name}`}
    </a>
  );
  return (
    <footer className="flex flex-none flex-wrap items-baseline gap-x-3 border-t border-rule px-5 py-1.5 text-sm text-soft">
      <span>Evidence:</span>
      {a.evidence.map(item)}
      {a.evidence.length === 0 && <span>none was kept</span>}
      {a.evidence.length > 0 && (
        <a className="link ml-auto" href={inProject(`runs/${run}/evidence.zip?leg=${sheet.leg}&case=${sheet.case_index}`)} download>
          all of it
        </a>
      )}
    </footer>
  );
}

function fileName(e: Evidence): string {
  const ends: Record<string, string> = { "image/png": "png", "application/json": "json", "application/zip": "zip" };
  return `${e.name.replace(/[^\w -]/g, "_")}-attempt-${e.attempt}.${ends[e.media_type] ?? "txt"}`;
}
