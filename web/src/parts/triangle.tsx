import { useState } from "react";
import type { Coverage, Level, PlanTrial } from "../data/api";
import { levelWords } from "../data/weave";

type Meeting = Coverage["meetings"][number];

const line = (levels: Level[]) =>
  levels.map((l) => `${l.factor} ${levelWords(l).replace(new RegExp(`^${l.factor} `), "")}`).join(" with ");

/** How the levels of every two factors meet: a cell for each pair, filled as far as it is covered. */
export function Triangle({ trial }: { trial: PlanTrial }) {
  const pairs = trial.coverage.find((c) => c.strength === 2);
  const [picked, pick] = useState<Meeting>();
  if (!pairs) return <p className="py-2 text-soft">One factor alone meets nothing.</p>;
  const names = trial.factors.map((f) => f.name);
  const find = (a: string, b: string) => pairs.meetings.find((m) => m.factors.includes(a) && m.factors.includes(b));
  const worst = pairs.meetings.find((m) => m.covered < m.possible) ?? pairs.meetings.find((m) => m.forbidden > 0);
  const shown = (picked && find(picked.factors[0]!, picked.factors[1]!)) ?? worst;
  const of = (list: Level[]) => !!shown && shown.factors.every((f) => list.some((l) => l.factor === f));
  const missing = shown ? pairs.missing.filter(of) : [];
  const never = shown ? trial.forbidden.filter((n) => of(n.levels)) : [];
  return (
    <div className="flex flex-wrap items-start gap-x-8 gap-y-4 pt-3">
      <div
        role="grid"
        aria-label="How the levels of every two factors meet"
        className="grid flex-none"
        style={{ gridTemplateColumns: `130px repeat(${names.length - 1}, 58px)` }}
      >
        {names.slice(1).map((row, r) => (
          <div key={row} role="row" className="contents">
            <span role="rowheader" className="flex h-[40px] items-center truncate pr-3 text-right text-sm">
              <span className="w-full truncate" title={row}>
                {row}
              </span>
            </span>
            {names.slice(0, -1).map((column, c) => {
              const m = c <= r ? find(row, column) : undefined;
              if (!m) return <span key={column} role="gridcell" aria-hidden={c > r || undefined} />;
              const part = m.possible ? m.covered / m.possible : 1;
              const whole = m.covered === m.possible;
              const words = `${column} with ${row}: ${m.covered} of ${m.possible} covered${m.forbidden ? `, ${m.forbidden} cannot be` : ""}`;
              return (
                <span key={column} role="gridcell" className="p-px">
                  <button
                    title={words}
                    aria-pressed={shown === m}
                    onClick={() => pick(m)}
                    className={`relative block h-[38px] w-[56px] overflow-hidden border ${shown === m ? "border-ink" : "border-rule"} bg-sheet hover:border-ink`}
                  >
                    <span className="sr-only">{words}: </span>
                    <span
                      className={`absolute inset-x-0 bottom-0 ${whole ? "bg-wash" : "bg-vermilion-wash"}`}
                      style={{ height: `${part * 100}%` }}
                      aria-hidden="true"
                    />
                    <span className="relative block text-sm">{whole ? "all" : `${Math.floor(part * 100)} %`}</span>
                    <span className="relative block text-xs text-soft">
                      {m.forbidden > 0 ? `${m.possible} −${m.forbidden}` : m.possible}
                    </span>
                  </button>
                </span>
              );
            })}
          </div>
        ))}
        <span />
        {names.slice(0, -1).map((n) => (
          <span key={n} className="truncate px-1 pt-1 text-center text-sm" title={n}>
            {n}
          </span>
        ))}
      </div>
      <div className="min-w-[260px] flex-1" aria-live="polite">
        {shown ? (
          <>
            <p className="font-medium">
              {shown.factors[0]} with {shown.factors[1]}: {shown.covered} of {shown.possible} pairs covered
            </p>
            {missing.length > 0 && (
              <>
                <p className="pt-1 text-soft">Not covered:</p>
                <ul className="max-h-40 overflow-auto" tabIndex={0} aria-label="Pairs that are not covered">
                  {missing.map((m) => (
                    <li key={line(m)}>{line(m)}</li>
                  ))}
                </ul>
                {missing.length < shown.possible - shown.covered && (
                  <p className="text-soft">and {shown.possible - shown.covered - missing.length} more</p>
                )}
              </>
            )}
            {never.length > 0 && (
              <>
                <p className="pt-2 text-soft">Never together:</p>
                <ul className="max-h-52 overflow-auto" tabIndex={0} aria-label="Pairs that never meet">
                  {never.map((n) => (
                    <li key={line(n.levels)} className="border-b border-rule py-0.5">
                      {line(n.levels)}
                      <span className="block text-sm text-soft">{n.why.join("; ")}</span>
                    </li>
                  ))}
                </ul>
              </>
            )}
            {missing.length === 0 && never.length === 0 && shown.forbidden === 0 && (
              <p className="pt-1 text-soft">Every level of the one meets every level of the other.</p>
            )}
            {never.length === 0 && shown.forbidden > 0 && (
              <p className="pt-1 text-soft">{shown.forbidden} pairs cannot be: no device is so.</p>
            )}
          </>
        ) : (
          <p className="text-soft">Every two factors meet in all their levels. Choose a cell to read about it.</p>
        )}
      </div>
    </div>
  );
}
