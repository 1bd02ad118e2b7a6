import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useParams, useSearchParams } from "react-router";
import { get, inProject, Problem, queries, useGet, type Cause, type RunDetail } from "../data/api";
import { followRun, useLiveRun, useTitle } from "../data/live";
import { Weave as Model, type Crossing } from "../data/weave";
import { Trouble, Waiting } from "../parts/plain";
import { Weave } from "../parts/weave";
import { AttemptSheet } from "../parts/sheet";
import { Causes, Grouping } from "./run/causes";
import { Header } from "./run/header";
import { LeftOut, Legend } from "./run/legend";

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
