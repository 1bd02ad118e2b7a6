import { useMemo } from "react";
import { useGet, type Now, type RunDetail } from "../../data/api";
import { plural } from "../../data/time";
import { combinationKey, combinationWhole } from "../../data/weave";
import { ordinary, WaitsFor } from "../../parts/runs";

/** What keeps legs waiting beside other legs: most often something that a person can mend. */
export function Held({ run }: { run: number }) {
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

export function Legend() {
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

export function LeftOut({ detail }: { detail: RunDetail }) {
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
