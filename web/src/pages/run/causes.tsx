import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { type Cause, type Run } from "../../data/api";
import { plural } from "../../data/time";
import { Weave as Model } from "../../data/weave";
import { Pick } from "../../parts/start/pick";
import { Trouble } from "../../parts/plain";
import { Shape } from "../../parts/verdict";

type CausesProps = {
  list?: Cause[];
  run: Run;
  trouble: unknown;
  onShow: (leg: number, index: number) => void;
  open?: { leg: number; index: number };
  crowded: boolean;
};

/** What failed and why, in words, by cause. */
export function Causes({ list, run, trouble, onShow, open, crowded }: CausesProps) {
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
export function Grouping({ run, model }: { run: Run; model: Model }) {
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
