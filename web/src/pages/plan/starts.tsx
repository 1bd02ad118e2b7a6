import { useState } from "react";
import { Link } from "react-router";
import { useGet, type Plan, type PlanRevision, type PlanStart, type PlanTrial } from "../../data/api";
import { at } from "../../data/time";
import { moment, reasonWords, StartShape, startWords } from "../../parts/plans";

export function Starts({ trial, saved }: { trial: PlanTrial; saved: Plan | undefined }) {
  const path = `plans/${encodeURIComponent(saved?.name ?? "")}`;
  const history = useGet<{ items: PlanStart[]; next?: number }>(`${path}/history?limit=100`, {
    enabled: !!saved,
    refetchInterval: 5_000,
  });
  const revisions = useGet<PlanRevision[]>(`${path}/revisions`, { enabled: !!saved });
  const [shown, show] = useState<PlanRevision>();
  return (
    <div className="grid gap-x-8 gap-y-4 pt-2 xl:grid-cols-2">
      <div>
        <h2 className="pb-1">Comes next</h2>
        {trial.starts.map((s) => (
          <p key={s} className="text-soft">
            {s}
          </p>
        ))}
        {trial.next.map((n) => (
          <p key={n}>{moment(n)}</p>
        ))}
        {trial.starts.length === 0 && <p className="text-soft">It starts when somebody starts it.</p>}
        {revisions.data && revisions.data.length > 0 && (
          <>
            <h2 className="pt-4 pb-1">Revisions</h2>
            {revisions.data.slice(0, 20).map((r) => (
              <p key={r.revision}>
                <button
                  className="link"
                  aria-expanded={shown?.revision === r.revision}
                  onClick={() => show(shown?.revision === r.revision ? undefined : r)}
                >
                  revision {r.revision}
                </button>
                <span className="text-soft">
                  , {r.saved_by}, {at(r.saved_at)}
                </span>
              </p>
            ))}
            {shown && (
              <pre
                className="mt-1 max-h-64 overflow-auto border border-rule bg-sheet p-2 font-mono text-sm"
                tabIndex={0}
              >
                {shown.text}
              </pre>
            )}
          </>
        )}
      </div>
      <div>
        <h2 className="pb-1">What came of it</h2>
        {history.data?.items.length === 0 && <p className="text-soft">Nothing has started it yet.</p>}
        {history.data?.items.map((s) => (
          <div
            key={s.id}
            className="grid grid-cols-[20px_130px_minmax(0,1fr)] items-baseline gap-x-2 border-b border-rule py-0.5"
          >
            <StartShape s={s} />
            <span>{moment(s.due)}</span>
            <span className="min-w-0">
              {s.run !== undefined ? (
                <Link className="link" to={`/runs/${s.run}`}>
                  run {s.run}
                </Link>
              ) : null}
              {s.run !== undefined && ", "}
              {startWords(s)}
              <span className="block text-sm text-soft">
                {reasonWords[s.reason]}
                {s.reason === "hand" && `, ${s.asked_by}`}
                {s.changed.length > 0 && `; other than in the plan: ${s.changed.join("; ")}`}
                {s.run !== undefined && s.told && `; ${s.told}`}
              </span>
            </span>
          </div>
        ))}
      </div>
    </div>
  );
}
