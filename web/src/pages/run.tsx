import { useQuery } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import {
  get,
  inProject,
  outdated,
  post,
  Problem,
  put,
  queries,
  useGet,
  type Cause,
  type Now,
  type Run,
  type RunDetail,
} from "../data/api";
import { followRun, useLiveRun, useTitle } from "../data/live";
import { at, lasting, plural } from "../data/time";
import { combinationKey, combinationWhole, Weave as Model, type Crossing } from "../data/weave";
import { MenuItem } from "../parts/frame";
import { Pick } from "../parts/start";
import { Progress, Trouble, Waiting } from "../parts/plain";
import { buildName, ordinary, remaining, RunVerdict, useClock, WaitsFor } from "../parts/runs";
import { Shape } from "../parts/verdict";
import { Weave } from "../parts/weave";
import { AttemptSheet } from "../parts/sheet";
import { Sure } from "../parts/sure";

export function RunPage() {
  const { run = "" } = useParams();
  const number = Number(run);
  const detail = useQuery<RunDetail, Problem>({
    queryKey: [`runs/${number}?brief`],
    queryFn: () => get<RunDetail>(inProject(`runs/${number}?brief=true`)),
    staleTime: 0,
    gcTime: 0,
  });
  // What failed stands over the weave: it is there first, so that nothing jumps.
  const causes = useGet<Cause[]>(`runs/${number}/causes`, { staleTime: 0, enabled: !!detail.data });
  useTitle(`Run ${run}`);
  if (detail.error && !detail.data)
    return (
      <div className="p-5">
        <Trouble of={detail.error} retry={() => void detail.refetch()} />
      </div>
    );
  if (!detail.data || (causes.isPending && !!detail.data.run.finished_at))
    return (
      <div className="p-5">
        <Waiting what={`run ${run}`} />
      </div>
    );
  return <Loaded key={number} detail={detail.data} />;
}

function Loaded({ detail }: { detail: RunDetail }) {
  const number = detail.run.number;
  const run = useLiveRun(detail.run)!;
  const [params, set] = useSearchParams();
  const [first] = useState(detail); // what the model was made of: events are followed from there
  const [model] = useState(() => new Model(first));
  const causes = useGet<Cause[]>(`runs/${number}/causes`, { staleTime: 0, placeholderData: (b) => b });
  const stale = useRef(0);

  useEffect(() => {
    const leave = followRun(number, first.run.last_event, (_, events) => {
      model.take(events);
      const news = events.some(
        (e) => e.kind === "leg" || e.kind === "run" || (e.kind === "result" && e.verdict !== "pass"),
      );
      if (news && stale.current === 0)
        stale.current = window.setTimeout(
          () => {
            stale.current = 0;
            void queries.invalidateQueries({ queryKey: [`runs/${number}/causes`] });
          },
          first.legs.length > 300 ? 3000 : 600,
        ); // the more there is to be gone through, the less often
      // An attempt that lies open fills as it goes.
      const changed = new Set(
        events.map((e) =>
          e.kind === "result"
            ? `runs/${number}/legs/${e.leg}/cases/${e.case_index}`
            : e.kind === "case"
              ? ""
              : `runs/${number}/legs/${e.leg}/`,
        ),
      );
      changed.delete("");
      void queries.invalidateQueries({
        predicate: (q) =>
          [...changed].some(
            (p) => String(q.queryKey[0]) === p || (p.endsWith("/") && String(q.queryKey[0]).startsWith(p)),
          ),
      });
    });
    return () => {
      leave();
      model.stop();
      clearTimeout(stale.current);
      stale.current = 0;
    };
  }, [number, first, model]);

  const by = params.get("by") ?? "";
  const foldedOnes = params.get("folded") ?? "";
  useEffect(() => model.group(by, new Set(foldedOnes ? foldedOnes.split("|") : [])), [model, by, foldedOnes]);
  const fold = useCallback(
    (group: string) =>
      set(
        (p) => {
          const now = (p.get("folded") ?? "").split("|").filter(Boolean);
          const next = now.includes(group) ? now.filter((g) => g !== group) : [...now, group];
          if (next.length) p.set("folded", next.join("|"));
          else p.delete("folded");
          return p;
        },
        { replace: true },
      ),
    [set],
  );
  const leg = Number(params.get("leg")) || 0;
  const wantedCase = params.get("case");
  // A link may name a leg alone: its first case that did not pass is meant, or its first.
  const open = useMemo(
    () => (leg ? { leg, index: wantedCase === null ? model.firstOf(leg) : Number(wantedCase) } : undefined),
    [leg, wantedCase, model],
  );
  const show = useCallback(
    (leg: number, index: number) =>
      set((p) => {
        p.set("leg", String(leg));
        p.set("case", String(index));
        p.delete("attempt");
        return p;
      }),
    [set],
  );
  const onOpen = useCallback((x: Crossing) => show(x.leg, x.index), [show]);
  const close = useCallback(() => {
    set((p) => {
      for (const k of ["leg", "case", "attempt", "wide"]) p.delete(k);
      return p;
    });
    document.querySelector<HTMLElement>("[role=grid]")?.focus();
  }, [set]);
  useEffect(() => {
    const esc = (e: KeyboardEvent) =>
      e.key === "Escape" &&
      open &&
      !document.querySelector("[role=dialog], [role=menu], [data-radix-popper-content-wrapper]") &&
      close();
    window.addEventListener("keydown", esc);
    return () => window.removeEventListener("keydown", esc);
  }, [open, close]);

  return (
    <div className="flex h-full">
      <div
        className={`flex h-full min-w-0 flex-col overflow-y-auto px-5 pt-4 ${open ? (params.has("wide") ? "hidden" : "w-[38%] flex-none max-lg:hidden") : "flex-1"}`}
      >
        <Header run={run} open={!!open} />
        <Causes list={causes.data} run={run} trouble={causes.error} onShow={show} open={open} crowded={!!open} />
        <Grouping run={run} model={model} />
        <div className="min-h-[300px] flex-1">
          {model.rows.length === 0 ? (
            <p className="text-soft">This run has no cases.</p>
          ) : (
            <Weave model={model} open={open} onOpen={onOpen} onFold={fold} narrow={!!open} />
          )}
        </div>
        <Legend />
        <LeftOut detail={detail} />
      </div>
      {open && (
        <AttemptSheet key={`${open.leg} ${open.index}`} run={run} leg={open.leg} index={open.index} onClose={close} />
      )}
    </div>
  );
}

function Header({ run, open }: { run: Run; open: boolean }) {
  const now = useClock(!run.finished_at);
  const navigate = useNavigate();
  const [trouble, setTrouble] = useState<unknown>();
  const again = (which: string, more: object = {}) =>
    post<Run>(inProject(`runs/${run.number}/again`), { which, real_time: run.real_time, ...more })
      .then((r) => navigate(`/runs/${r.number}`))
      .catch(setTrouble);
  const left = remaining(run, now);
  const bad = run.fails + run.errors;
  const asked: [string, string][] = [
    ["seed", String(run.seed)],
    ["language", run.language],
    ["asked by", run.asked_by],
  ];
  if (run.repeat_failed > 0) asked.push(["failed cases repeat", plural(run.repeat_failed, "time")]);
  return (
    <header className="pb-3">
      <div className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <h1 className="flex items-baseline gap-3">
          Run {run.number}
          <span className="text-lg font-normal" role="status" aria-label="Verdict of the run">
            <RunVerdict r={run} />
          </span>
        </h1>
        <div className="flex items-center gap-2">
          {!run.finished_at && (
            <Sure
              question={`Cancel run ${run.number}?`}
              more="What is decided stays; what is not is left out, and cannot be taken up again."
              does="Cancel it"
              onYes={() => void post<Run>(inProject(`runs/${run.number}/cancel`), {}).catch(setTrouble)}
            >
              <button className="button">Cancel the run</button>
            </Sure>
          )}
          {!open && (
            <>
              <a
                className="button"
                href={inProject(`runs/${run.number}/report.html?save=1`)}
                download={`run-${run.number}.html`}
                title="One page with its pictures within, to hand on or to print"
              >
                Report
              </a>
              <a className="button" href={inProject(`runs/${run.number}/evidence.zip`)} download>
                Evidence
              </a>
              <Link className="button" to={`/runs/${run.number}/summary`}>
                In brief
              </Link>
              <Link
                className="button"
                to={`/runs/${run.number}/pictures`}
                title="A named picture over all combinations"
              >
                Pictures
              </Link>
              <button
                className="button"
                aria-pressed={!!run.pinned_by}
                title={
                  run.pinned_by
                    ? `pinned by ${run.pinned_by}: retention lets nothing of it go`
                    : "have retention let nothing of it go"
                }
                onClick={() =>
                  void put<Run>(inProject(`runs/${run.number}/pin`), { pinned: !run.pinned_by })
                    .then(() => outdated(`runs/${run.number}`))
                    .catch(setTrouble)
                }
              >
                {run.pinned_by ? "Pinned" : "Pin"}
              </button>
            </>
          )}
          <DropdownMenu.Root>
            <DropdownMenu.Trigger className="button">Run again</DropdownMenu.Trigger>
            <DropdownMenu.Portal>
              <DropdownMenu.Content align="end" sideOffset={6} className="card z-50 min-w-64 py-1">
                <MenuItem onSelect={() => void again("all")}>All of it</MenuItem>
                <MenuItem
                  disabled={bad === 0 && !!run.finished_at && run.state !== "cancelled"}
                  onSelect={() => void again("failed")}
                >
                  What did not pass
                </MenuItem>
                <MenuItem onSelect={() => void again("all", { same_seed: true })}>
                  All of it, chance as it fell
                </MenuItem>
                <MenuItem onSelect={() => void again("failed", { real_time: true })}>
                  What did not pass, slowly, to watch
                </MenuItem>
              </DropdownMenu.Content>
            </DropdownMenu.Portal>
          </DropdownMenu.Root>
        </div>
      </div>
      <p className="pt-1 text-soft">
        <Link className="link" to={`/builds/${run.build}?app=${encodeURIComponent(run.app)}`}>
          {buildName(run)}
        </Link>
        {run.started_at ? `, began ${at(run.started_at)}` : `, asked for ${at(run.created_at)}`}
        {run.started_at &&
          run.finished_at &&
          `, took ${lasting(Date.parse(run.finished_at) - Date.parse(run.started_at))}`}
        {!open && asked.map(([k, v]) => `, ${k} ${v}`).join("")}
      </p>
      {!open && run.keep?.run && (
        <p className="text-soft">
          kept of this run alone:{" "}
          <b className="font-medium text-ink">
            {Object.entries(run.keep.run)
              .map(([sort, rule]) => `${sort} ${rule}`)
              .join(", ")}
          </b>
        </p>
      )}
      {run.plan && (
        <p className="text-soft">
          of the plan{" "}
          <Link className="link" to={`/plans/${encodeURIComponent(run.plan)}`}>
            {run.plan}
          </Link>
          , revision {run.plan_revision}
          {run.changed && run.changed.length > 0 && (
            <b className="font-medium text-ink">
              ; other than in the plan, for this run alone: {run.changed.join("; ")}
            </b>
          )}
        </p>
      )}
      {!run.finished_at && (
        <div className="pt-2">
          <Progress done={run.results} of={run.expected} bad={bad} label={`Progress of run ${run.number}`} />
          <p className="pt-1 text-sm text-soft">
            {run.results} of {plural(run.expected, "result")}, {plural(run.open_legs, "leg")} to go{left && `, ${left}`}
          </p>
          <Held run={run.number} />
        </div>
      )}
      {trouble !== undefined && <Trouble of={trouble} />}
    </header>
  );
}

/** What keeps legs waiting beside other legs: most often something that a person can mend. */
function Held({ run }: { run: number }) {
  const now = useGet<Now>("now", { refetchInterval: 4_000 });
  const held = (now.data?.waiting ?? []).filter((w) => w.run === run && !ordinary(w));
  if (held.length === 0) return null;
  return (
    <ul aria-label="What holds it up" className="pt-1">
      {held.slice(0, 3).map((w) => (
        <li key={`${combinationWhole(w.combination)} ${w.waits_for}`} className="flex gap-2">
          <span className="verdict verdict-error mt-[5px] flex-none" aria-hidden="true" />
          <span>
            {w.legs > 1 && `${w.legs} × `}
            {combinationWhole(w.combination)} <WaitsFor w={w} />
          </span>
        </li>
      ))}
      {held.length > 3 && <li className="text-soft">and {plural(held.length - 3, "more combination")}</li>}
    </ul>
  );
}

type CausesProps = {
  list?: Cause[];
  run: Run;
  trouble: unknown;
  onShow: (leg: number, index: number) => void;
  open?: { leg: number; index: number };
  crowded: boolean;
};

/** What failed and why, in words, by cause. */
function Causes({ list, run, trouble, onShow, open, crowded }: CausesProps) {
  const [all, setAll] = useState(false);
  const few = crowded ? 2 : 3;
  if (trouble && !list) return <Trouble of={trouble} />;
  if (!list) return null;
  if (list.length === 0)
    return run.finished_at && run.verdict === "pass" ? (
      <p className="pb-3">Every case passed in every combination.</p>
    ) : null;
  const failures = list.reduce((n, c) => n + c.crossings, 0);
  const shown = all ? list : list.slice(0, few);
  return (
    <section aria-label="What failed and why" className={`pb-3 ${all ? "max-h-[45%] overflow-auto" : ""}`}>
      <h2 className="border-b border-strong pb-1">
        {plural(list.length, "cause")}, {plural(failures, "crossing")}
      </h2>
      <ul>
        {shown.map((c, i) => (
          <li key={i} className="border-b border-rule">
            <button
              onClick={() => onShow(c.leg, c.case_index)}
              aria-pressed={open?.leg === c.leg && open.index === c.case_index}
              className="flex w-full gap-2.5 py-1.5 text-left hover:bg-wash"
            >
              <span className="pt-[5.5px]">
                <Shape of={c.flaky === c.crossings ? "fail" : c.verdict} flaky={c.flaky === c.crossings} />
              </span>
              <span className="min-w-0 flex-1">
                <span className="block">
                  {c.kind === "crashed" || c.kind === "trouble" ? (
                    <b className="font-semibold">{c.actual}</b>
                  ) : (
                    <>
                      expected <b className="font-semibold">{c.expected}</b>, but {c.actual}
                    </>
                  )}
                </span>
                <span className="block text-soft">
                  {c.cases.length === 1 ? c.cases[0] : `${c.cases[0]} and ${plural(c.cases.length - 1, "more case")}`}
                  {c.suite && c.line ? ` (${c.suite}, line ${c.line})` : ""}
                  {": "}
                  {c.shared}
                  {!run.finished_at && " so far"}
                  {c.flaky > 0 &&
                    (c.flaky === c.crossings ? "; flaky, passes on another attempt" : `; ${c.flaky} flaky`)}
                  {c.since && `; ${c.since}`}
                </span>
              </span>
            </button>
            {(c.each?.length ?? 0) > 1 && (
              <details className="pb-1.5 pl-[26px]">
                <summary className="text-sm text-soft">Its {plural(c.cases.length, "case")}</summary>
                <ul>
                  {c.each!.map((e) => (
                    <li key={`${e.suite}/${e.case}`} className="text-sm">
                      <button className="link" onClick={() => onShow(e.leg, e.case_index)}>
                        {e.case}
                      </button>{" "}
                      <span className="text-soft">
                        {e.suite}
                        {e.line > 0 && `, line ${e.line}`}
                      </span>
                    </li>
                  ))}
                </ul>
              </details>
            )}
          </li>
        ))}
      </ul>
      {list.length > few && (
        <button className="link pt-1 text-soft" onClick={() => setAll(!all)}>
          {all ? "Fewer" : `${plural(list.length - few, "more cause")}`}
        </button>
      )}
    </section>
  );
}

/** Puts the weave's columns together by a factor that they differ in. */
function Grouping({ run, model }: { run: Run; model: Model }) {
  const [params, set] = useSearchParams();
  const factors = useMemo(() => model.factors(run.factors), [model, run.factors]);
  if (factors.length === 0) return null;
  return (
    <div className="flex items-center gap-2 pb-2">
      <span className="text-sm text-soft">Columns</span>
      <Pick
        narrow
        label="Put columns together"
        value={params.get("by") ?? ""}
        onChange={(v) =>
          set(
            (p) => {
              if (v) p.set("by", v);
              else p.delete("by");
              p.delete("folded");
              return p;
            },
            { replace: true },
          )
        }
        options={[["", "as they failed"], ...factors.map((f): [string, string] => [f, `by ${f}`])]}
      />
    </div>
  );
}

function Legend() {
  return (
    <p className="flex flex-wrap gap-x-4 gap-y-1 py-2 text-sm text-soft" aria-hidden="true">
      {["pass", "fail", "error", "skip", "flaky", "recovered", "running", "none"].map((v) => (
        <span key={v} className="inline-flex items-center gap-1.5">
          <span className={`verdict verdict-${v}`} style={v === "running" ? { animation: "none" } : undefined} />
          {v === "none" ? "not decided" : v === "recovered" ? "after an error" : v}
        </span>
      ))}
    </p>
  );
}

function LeftOut({ detail }: { detail: RunDetail }) {
  const list = useMemo(() => detail.left_out, [detail]);
  if (list.length === 0) return null;
  return (
    <details className="pb-2">
      <summary className="text-soft">{plural(list.length, "combination")} left out, and why</summary>
      <div className="max-h-40 overflow-auto pt-1" tabIndex={0}>
        {list.map((l) => (
          <div key={combinationKey(l.combination)} className="border-t border-rule py-1">
            {combinationWhole(l.combination)}
            {l.reasons.map((r) => (
              <span key={r.why} className="block text-sm text-soft">
                {r.why}: {r.remedy}
              </span>
            ))}
          </div>
        ))}
      </div>
    </details>
  );
}
