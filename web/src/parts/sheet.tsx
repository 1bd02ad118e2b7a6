import { useQuery } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { Fragment, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import {
  evidencePath,
  framePath,
  inProject,
  post,
  problemOf,
  useGet,
  type Evidence,
  type Frame,
  type Result,
  type Run,
  type Session,
  type Sheet,
  type SheetAttempt,
  type Step,
} from "../data/api";
import { calls, type Call } from "../data/calls";
import { Log } from "../data/log";
import { amount, readings } from "../data/readings";
import { at, lasting, size } from "../data/time";
import { combinationWhole } from "../data/weave";
import { NewFinding } from "./kept";
import { Modal, Trouble, Waiting } from "./plain";
import { Pick } from "./start";
import { seconds, Timeline, type Column, type Moved } from "./timeline";
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
  const telling =
    [...attempts].reverse().find((a) => a.result && a.result.verdict !== "pass") ?? attempts[attempts.length - 1];
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
              void post<Run>(inProject(`runs/${run.number}/again`), {
                which: "one",
                leg,
                case_index: index,
                real_time: run.real_time,
              })
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
          <button
            className="button max-lg:hidden"
            aria-pressed={params.has("wide")}
            onClick={() =>
              set(
                (p) => {
                  if (p.has("wide")) p.delete("wide");
                  else p.set("wide", "1");
                  return p;
                },
                { replace: true },
              )
            }
          >
            Wide
          </button>
          <button className="button" onClick={onClose}>
            Close <kbd>Esc</kbd>
          </button>
        </div>
      </header>
      {trouble !== undefined && (
        <div className="px-5">
          <Trouble of={trouble} />
        </div>
      )}
      <Modal
        title="Make a finding"
        about="What should be mended. Build, device, levels, the way there and the end of the log come with it."
        open={finding}
        onClose={() => setFinding(false)}
      >
        {finding && (
          <NewFinding
            from={{ failed: { run: run.number, leg, case: index } }}
            title={telling?.result?.sentence?.replace(/^line \d+: /, "") ?? ""}
          />
        )}
      </Modal>
      {sheet.error && !s && (
        <div className="px-5">
          <Trouble of={sheet.error} retry={() => void sheet.refetch()} />
        </div>
      )}
      {!s && !sheet.error && (
        <div className="px-5">
          <Waiting what="the attempt" />
        </div>
      )}
      {s && attempts.length === 0 && (
        <p className="px-5 py-4 text-soft">It has not been attempted yet. This fills as soon as it is.</p>
      )}
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
              <Tabs.Trigger
                key={a.attempt.number}
                value={String(a.attempt.number)}
                className="flex items-center gap-1.5 border-b-2 border-transparent px-1.5 pb-1 text-soft data-[state=active]:border-ink data-[state=active]:text-ink"
              >
                <Shape
                  of={a.result?.verdict ?? (a.attempt.ended ? "error" : "none")}
                  running={!a.attempt.ended && !a.result}
                  silent
                />
                {a.attempt.number > 0 ? `Attempt ${a.attempt.number}` : "No attempt"}
                <span className="text-sm">{a.attempt.device}</span>
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          {attempts.map((a) => (
            <Tabs.Content
              key={a.attempt.number}
              value={String(a.attempt.number)}
              tabIndex={-1}
              className="min-h-0 flex-1"
            >
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
  file?: string;
  line: number;
  step: string;
  phase?: string;
  way?: Called[];
  expected: string;
  actual: string;
  difference?: Piece[];
  waited_ms?: number;
  quiet_ms?: number;
  pending_ms?: number;
  report?: string;
  candidates?: unknown[];
  values?: { name: string; value: string }[];
  log?: { at_ms: number; level: string; tag: string; text: string }[];
  after?: string[];
};

/** Reads a piece of evidence, once; a sort that there is none of is not asked for. */
function useKept<T>(run: number, e: Evidence | undefined, read: (r: Response) => Promise<T>) {
  return useQuery({
    queryKey: ["kept", run, e?.id],
    queryFn: async () => {
      const r = await fetch(evidencePath(run, e!.id), { credentials: "same-origin" });
      if (!r.ok) throw await problemOf(r);
      return read(r);
    },
    enabled: !!e && !e.gone,
    staleTime: Infinity,
    structuralSharing: false,
    gcTime: 60_000,
  });
}

const allColumns: Column[] = ["steps", "log", "network", "readings"];
const sortOf: Record<Column, string> = { steps: "", log: "log", network: "network", readings: "readings" };

function Attempt({ run, sheet, a }: { run: number; sheet: Sheet; a: SheetAttempt }) {
  const [params, setParams] = useSearchParams();
  const steps = useMemo(() => a.result?.steps ?? [], [a]);
  const piece = (sort: string) => a.evidence.find((e) => e.sort === sort && e.case_index === sheet.case_index);
  const logFile = piece("log");
  const log = useKept(run, logFile, async (r) => Log.of(await r.text()));
  const network = useKept(run, piece("network"), async (r) => calls((await r.json()) as Parameters<typeof calls>[0]));
  const told = useKept(run, piece("readings"), async (r) =>
    readings(await new Response(r.body!.pipeThrough(new DecompressionStream("gzip"))).text()),
  );
  const has = (c: Column) => (c === "steps" ? steps.length > 0 : !!piece(sortOf[c]) && !piece(sortOf[c])!.gone);
  const chosen = params.get("columns");
  const columns = allColumns.filter((c) => (chosen === null ? has(c) || c === "log" : chosen.split(" ").includes(c)));
  const columnsKey = columns.join(" ");
  const stable = useMemo(() => columnsKey.split(" ").filter((c) => c !== "") as Column[], [columnsKey]);
  const figures = told.data?.figures ?? [];
  const figure = figures.find((f) => f.name === (params.get("figure") ?? "memory")) ?? figures[0];
  const put = (name: string, value: string) =>
    setParams(
      (p) => {
        p.set(name, value);
        return p;
      },
      { replace: true },
    );
  const failing = steps.findIndex((s) => s.verdict === "fail" || s.verdict === "error");
  const [moment, setMoment] = useState<number>();
  const [moved, setMoved] = useState<Moved>();
  const elsewhere = (ms: number) => {
    setMoment(ms);
    setMoved((m) => ({ ms, by: (m?.by ?? 0) + 1 }));
  };
  const when =
    moment ??
    (failing >= 0
      ? steps[failing]!.at_ms + steps[failing]!.took_ms
      : (steps[steps.length - 1]?.at_ms ?? 0) + (steps[steps.length - 1]?.took_ms ?? 0));
  const ready = (!logFile || logFile.gone || !log.isPending) && (!has("network") || !network.isPending);
  if (!a.result && !a.attempt.ended)
    return (
      <div className="px-5">
        <FailureWords a={a} />
        <p>
          The case is under way, or its turn is still to come in this attempt. Steps, log and pictures are here as soon
          as it is judged.
        </p>
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
      <div
        role="group"
        aria-label="Columns"
        className="flex flex-none flex-wrap items-center gap-x-3 gap-y-1 border-t border-rule px-5 py-1 text-sm"
      >
        {allColumns.map((c) => (
          <label
            key={c}
            className={`flex items-center gap-1 ${has(c) ? "" : "text-faint"}`}
            title={has(c) ? undefined : whyNot(a, sortOf[c])}
          >
            <input
              type="checkbox"
              checked={columns.includes(c)}
              onChange={(e) =>
                put("columns", allColumns.filter((o) => (o === c ? e.target.checked : columns.includes(o))).join(" "))
              }
            />
            {c[0]!.toUpperCase() + c.slice(1)}
            {!has(c) && c !== "steps" && <span>(none)</span>}
          </label>
        ))}
        {figures.length > 0 && columns.includes("readings") && (
          <Pick
            narrow
            label="Figure"
            value={figure?.name ?? ""}
            onChange={(v) => put("figure", v)}
            options={figures.map((f): [string, string] => [f.name, f.name])}
          />
        )}
        <Link className="link ml-auto" to={`/beside?a=${run}.${sheet.leg}.${sheet.case_index}.${a.attempt.number}`}>
          Lay another beside it
        </Link>
      </div>
      <div className="flex min-h-0 flex-1">
        <div className="min-w-0 flex-1">
          {ready ? (
            <Timeline
              columns={stable}
              steps={steps}
              log={log.data ?? Log.none}
              calls={network.data ?? none}
              readings={told.data}
              figure={figure}
              failing={failing}
              chosen={chosen !== null}
              moved={moved}
              onMoment={setMoment}
              trouble={log.error ?? network.error ?? told.error}
              key={log.data ? "with log" : "without"}
            />
          ) : (
            <div className="px-5">
              <Waiting what="what was kept" />
            </div>
          )}
        </div>
        <Pictures
          run={run}
          a={a}
          index={sheet.case_index}
          when={when}
          chosen={moment !== undefined}
          onMoment={elsewhere}
        />
      </div>
      {told.data && columns.includes("readings") && (
        <Sums evidence={piece("readings")!} steps={steps} onMoment={elsewhere} figure={figure?.name} />
      )}
      <EvidenceLine run={run} sheet={sheet} a={a} />
    </div>
  );
}

const none: Call[] = [];

/** Why there is none of a sort, as the host said, or because retention has let it go. */
function whyNot(a: SheetAttempt, sort: string): string | undefined {
  const gone = a.evidence.find((e) => e.sort === sort && e.gone)?.gone;
  return gone ?? a.result?.not_kept?.find((n) => n.sort === sort)?.why;
}

type Sum = { name: string; unit?: string; smallest: number; median: number; largest: number; peak_ms: number };

/** What each figure comes to; the largest leads to its moment. */
function Sums({
  evidence,
  steps,
  onMoment,
  figure,
}: {
  evidence: Evidence;
  steps: Step[];
  onMoment: (ms: number) => void;
  figure?: string;
}) {
  const sums = ((evidence.facts as { sums?: Sum[] } | undefined)?.sums ?? []).filter((s) => s.name === figure);
  const s = sums[0];
  if (!s) return null;
  const during = [...steps].reverse().find((one) => one.at_ms <= s.peak_ms);
  return (
    <p className="flex-none truncate border-t border-rule px-5 py-1 text-sm text-soft">
      {s.name}: smallest {amount(s.smallest, s.unit ?? "")}, median {amount(s.median, s.unit ?? "")}, largest{" "}
      <button className="link" onClick={() => onMoment(s.peak_ms)}>
        {amount(s.largest, s.unit ?? "")} at {seconds(s.peak_ms)} s
      </button>
      {during && (
        <>
          , while <code className="font-mono">{during.text}</code>
        </>
      )}
    </p>
  );
}

const lineWords = (p: { file?: string; line: number }, large: boolean) =>
  `${p.file ? `${p.file}, ` : ""}${large && !p.file ? "Line" : "line"} ${p.line}`;

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
              {f.difference!.map((p, i, all) => (
                <Fragment key={i}>
                  {i > 0 && p.of !== "both" && all[i - 1]!.of !== "both" && (
                    <span className="px-1 text-soft" aria-label="but">
                      {" "}
                      →{" "}
                    </span>
                  )}
                  {p.of === "both" ? (
                    <span>{p.text}</span>
                  ) : p.of === "expected" ? (
                    <del title="expected" className="border-b-2 border-petrol text-petrol no-underline">
                      {p.text}
                    </del>
                  ) : (
                    <ins
                      title="was there"
                      className="border-b-2 border-dashed border-vermilion text-vermilion no-underline"
                    >
                      {p.text}
                    </ins>
                  )}
                </Fragment>
              ))}
            </dd>
          </>
        )}
        {(f.values?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">values</dt>
            <dd className="font-mono text-sm break-words">
              {f.values!.map((v) => `$${v.name} = ${v.value}`).join(", ")}
            </dd>
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
          {a.bearing.touched &&
            `Looked for the same here, and passed: ${a.bearing.touched.map((t) => `“${t}”`).join(", ")}. `}
          {a.bearing.last_passed && (
            <>
              This step last passed in {a.bearing.last_passed},{" "}
              <Link className="link" to={`/runs/${a.bearing.last_passed_run}`}>
                run {a.bearing.last_passed_run}
              </Link>
              .
            </>
          )}
        </p>
      )}
      <p className="text-sm text-soft">
        On {a.attempt.device}, began {at(a.attempt.began)}
        {took}
        {(f.waited_ms ?? 0) > 0 &&
          `; waited ${lasting(f.waited_ms!)}, ${(f.pending_ms ?? 0) > 0 ? `an answer had been awaited for ${lasting(f.pending_ms!)}` : `nothing had changed for ${lasting(f.quiet_ms ?? 0)}`}`}
      </p>
      {(f.log?.length ?? 0) > 0 && (
        <details className="pt-1">
          <summary className="text-sm">The app’s log around it, errors first</summary>
          <pre className="max-h-40 overflow-auto font-mono text-sm whitespace-pre-wrap" tabIndex={0}>
            {f
              .log!.map((l) => `${(l.at_ms / 1000).toFixed(3).padStart(9)} ${l.level.padEnd(5)} ${l.tag}: ${l.text}`)
              .join("\n")}
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

type PicturesProps = {
  run: number;
  a: SheetAttempt;
  index: number;
  when: number;
  chosen: boolean;
  onMoment: (ms: number) => void;
};

/** The picture of the moment, with the strip of all pictures below it. */
function Pictures({ run, a, index, when, chosen, onMoment }: PicturesProps) {
  const failure = a.evidence.find((e) => e.sort === "picture" && e.name === "failure" && e.case_index === index);
  const named = a.evidence.filter((e) => e.sort === "picture" && e.name !== "failure" && e.case_index === index);
  const frames = a.frames;
  let nearest = -1;
  for (let i = 0; i < frames.length; i++) if (frames[i]!.at_ms <= when + 1) nearest = i;
  if (nearest < 0 && frames.length > 0) nearest = 0;
  const [shown, setShown] = useState<Evidence>();
  const [moving, setMoving] = useState(false);
  useEffect(() => setShown(undefined), [when]);
  const atFailure = !shown && failure && (!chosen || nearest === frames.length - 1);
  const pick = shown ?? (atFailure ? failure : undefined);
  const frame = pick ? undefined : frames[nearest];
  const video = a.evidence.find((e) => e.sort === "video" && e.case_index === index && !e.gone);
  if (!pick && !frame && !video) return null;
  const marked = ((a.result?.failure as Failure | undefined)?.candidates?.length ?? 0) > 0;
  const words =
    !pick && !frame
      ? ""
      : pick
        ? pick.name === "failure"
          ? `where it failed${marked ? ", the place marked" : ""}`
          : pick.name
        : `at ${seconds(frame!.at_ms)} s`;
  return (
    <div className="flex w-[238px] flex-none flex-col border-l border-rule px-3 pt-2">
      {video && (
        <div role="group" aria-label="How the screen is shown" className="flex flex-none gap-2 pb-1 text-sm">
          {["Picture", "Video"].map((t) => (
            <button
              key={t}
              aria-pressed={moving === (t === "Video")}
              onClick={() => setMoving(t === "Video")}
              className="border-b border-transparent text-soft aria-pressed:border-ink aria-pressed:text-ink"
            >
              {t}
            </button>
          ))}
        </div>
      )}
      {video && moving && <Film src={evidencePath(run, video.id)} when={when} onMoment={onMoment} />}
      <div className={`min-h-0 flex-1 ${video && moving ? "hidden" : ""}`}>
        {(pick || frame) && (
          <img
            key={pick ? pick.id : `${frame!.evidence}/${frame!.index}`}
            src={pick ? evidencePath(run, pick.id) : framePath(run, frame!)}
            alt={`The screen ${words}`}
            className="max-h-full max-w-full rounded border border-rule object-contain object-top"
          />
        )}
      </div>
      {!(video && moving) && <p className="flex-none py-1 text-sm text-soft">The screen {words}</p>}
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

/** The video of a case. Its time is the case's: it goes where something is pointed at, and takes the sheet along while it plays. */
function Film({ src, when, onMoment }: { src: string; when: number; onMoment: (ms: number) => void }) {
  const film = useRef<HTMLVideoElement>(null);
  useEffect(() => {
    const v = film.current;
    if (v && v.paused && Math.abs(v.currentTime * 1000 - when) > 20) v.currentTime = when / 1000;
  }, [when]);
  return (
    <div className="min-h-0 flex-1">
      <video
        ref={film}
        src={src}
        controls
        muted
        preload="auto"
        aria-label="Video of the case"
        className="max-h-full max-w-full rounded border border-rule"
        onLoadedMetadata={(e) => (e.currentTarget.currentTime = when / 1000)}
        onTimeUpdate={(e) => !e.currentTarget.paused && onMoment(e.currentTarget.currentTime * 1000)}
      />
    </div>
  );
}

function Strip({
  run,
  frames,
  nearest,
  onMoment,
}: {
  run: number;
  frames: Frame[];
  nearest: number;
  onMoment: (ms: number) => void;
}) {
  const list = useRef<HTMLDivElement>(null);
  useEffect(() => {
    list.current?.children[nearest]?.scrollIntoView({ inline: "nearest", block: "nearest" });
  }, [nearest]);
  if (frames.length === 0) return null;
  return (
    <div
      ref={list}
      className="flex flex-none gap-1 overflow-x-auto pb-1.5"
      role="group"
      aria-label={`Pictures at each change, ${frames.length}`}
    >
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
  const gone = a.evidence.filter((e) => e.gone);
  const missing = [
    ...(a.result?.not_kept ?? []),
    ...gone.map((e) => ({ sort: e.sort === e.name ? e.sort : `${e.sort} ${e.name}`, why: e.gone! })),
  ];
  const item = (e: Evidence): ReactNode => (
    <a
      key={e.id}
      className="link whitespace-nowrap"
      href={evidencePath(run, e.id)}
      download={fileName(e)}
      title={`${e.media_type}, ${size(e.size)}`}
    >
      {e.sort === e.name ? e.sort : `${e.sort} ${e.name}`}
    </a>
  );
  return (
    <footer className="flex flex-none flex-wrap items-baseline gap-x-3 border-t border-rule px-5 py-1.5 text-sm text-soft">
      <span>Evidence:</span>
      {a.evidence.filter((e) => !e.gone).map(item)}
      {a.evidence.length === 0 && <span>none was kept</span>}
      {missing.length > 0 && (
        <details>
          <summary>not kept: {missing.map((n) => n.sort).join(", ")}</summary>
          {missing.map((n) => (
            <span key={n.sort} className="block">
              {n.sort}: {n.why}
            </span>
          ))}
        </details>
      )}
      {a.evidence.length > 0 && (
        <a
          className="link ml-auto"
          href={inProject(`runs/${run}/evidence.zip?leg=${sheet.leg}&case=${sheet.case_index}`)}
          download
        >
          all of it
        </a>
      )}
    </footer>
  );
}

function fileName(e: Evidence): string {
  const ends: Record<string, string> = {
    "image/png": "png",
    "application/json": "json",
    "application/zip": "zip",
    "video/webm": "webm",
    "application/gzip": "csv.gz",
    "application/json; profile=har": "har",
  };
  return `${e.name.replace(/[^\w -]/g, "_")}-attempt-${e.attempt}.${ends[e.media_type] ?? "txt"}`;
}
