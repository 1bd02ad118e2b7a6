import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Run, Waits } from "../data/api";
import { at, lasting, plural } from "../data/time";
import { Progress } from "./plain";
import { VerdictWord } from "./verdict";

/** Re-renders every second while something runs. */
export function useClock(on: boolean): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    if (!on) return;
    const t = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(t);
  }, [on]);
  return now;
}

export const buildName = (r: { app: string; version_name: string; version_code: string }) =>
  `${r.app} ${r.version_name} (${r.version_code})`;

/** What is left, judged by the pace so far; nothing where that would be guessing. */
export function remaining(r: Run, now: number): string {
  if (!r.started_at || r.finished_at || r.results < 3) return "";
  const took = now - Date.parse(r.started_at);
  const left = (took / r.results) * Math.max(0, r.expected - r.results);
  return left < 1500 ? "nearly done" : `about ${left < 60_000 ? `${Math.round(left / 1000)} s` : lasting(left)} to go`;
}

export function runWord(r: Run): string {
  if (!r.finished_at) return r.state;
  return r.state === "cancelled" ? `cancelled; so far ${r.verdict}` : r.verdict;
}

export function RunVerdict({ r }: { r: Run }) {
  return <VerdictWord of={r.verdict} running={!r.finished_at && r.state === "running"} word={runWord(r)} />;
}

/** A run under way: what, how far, since when, and for how long still. */
export function RunningLine({ r }: { r: Run }) {
  const now = useClock(!r.finished_at);
  const left = remaining(r, now);
  return (
    <Link to={`/runs/${r.number}`} className="block border-b border-rule py-2 hover:bg-wash">
      <div className="flex items-baseline justify-between gap-3">
        <span className="truncate">
          <span className="font-semibold">Run {r.number}</span> <span className="pl-1">{buildName(r)}</span>
        </span>
        <RunVerdict r={r} />
      </div>
      <div className="py-1.5">
        <Progress done={r.results} of={r.expected} bad={r.fails + r.errors} label={`Progress of run ${r.number}`} />
      </div>
      <div className="flex flex-wrap justify-between gap-x-3 text-sm text-soft">
        <span>
          {r.results} of {plural(r.expected, "result")}
          {r.fails > 0 && <span className="text-vermilion">, {r.fails} failed</span>}
          {r.errors > 0 && <span className="text-petrol">, {plural(r.errors, "error")}</span>}
        </span>
        <span>
          {r.started_at ? `began ${at(r.started_at)}` : `asked for ${at(r.created_at)}, waits for a device`}
          {left && `, ${left}`}
        </span>
      </div>
    </Link>
  );
}

/** Whether it only waits for other legs to be done. */
export const ordinary = (w: Waits) => w.waits_for === "its turn" || w.waits_for.endsWith(" in use");

/** What legs wait for, with commands set apart. */
export function WaitsFor({ w }: { w: Waits }) {
  const [before, command, after] = w.waits_for.split("`");
  return (
    <span className={ordinary(w) ? "text-soft" : "text-petrol"}>
      waits for {before}
      {command && <code className="font-mono text-sm whitespace-nowrap">{command}</code>}
      {after}
    </span>
  );
}
