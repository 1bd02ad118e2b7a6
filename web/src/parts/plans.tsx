// What pages on plans share.
import { Link } from "react-router";
import type { PlanStart } from "../data/api";
import { at } from "../data/time";
import { Tip } from "./plain";
import { Shape, verdictWords } from "./verdict";

const when = new Intl.DateTimeFormat(undefined, {
  weekday: "short",
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
  hourCycle: "h23",
  timeZoneName: "short",
});

/** Fri, 27 Nov, 02:00 WET: in this browser's zone, and which that is */
export const moment = (iso: string) => when.format(new Date(iso));

/** What a start came to, in words. */
export function startWords(s: PlanStart): string {
  if (s.run === undefined) return s.told ? `${s.state}: ${s.told}` : s.state;
  if (s.run_state === "finished") return verdictWords(s.verdict ?? "none");
  return s.run_state ?? "";
}

export const reasonWords: Record<string, string> = {
  time: "its time",
  arrival: "a build arrived",
  after: "another plan ended",
  hand: "by hand",
};

/** One start as a shape that leads to its run. */
export function StartShape({ s }: { s: PlanStart }) {
  const words = `${at(s.due)}, ${reasonWords[s.reason] ?? s.reason}: ${s.run ? `run ${s.run}, ` : ""}${startWords(s)}`;
  const running = s.run_state === "running" || s.run_state === "queued";
  if (s.run === undefined)
    return (
      <Tip words={words}>
        <span tabIndex={0} role="img" aria-label={words} className="grid size-[18px] place-items-center text-faint">
          {s.state === "due" ? "…" : "×"}
        </span>
      </Tip>
    );
  return (
    <Tip words={words}>
      <Link to={`/runs/${s.run}`} aria-label={words} className="grid size-[18px] place-items-center hover:bg-wash">
        <Shape of={s.verdict ?? "none"} running={running} silent />
      </Link>
    </Tip>
  );
}

/** How a plan went lately, the newest last. */
export function Lately({ list }: { list: PlanStart[] }) {
  if (list.length === 0) return <span className="text-faint">never started</span>;
  return (
    <span className="flex" aria-label="How it went lately, the newest last" role="group">
      {[...list].reverse().map((s) => (
        <StartShape key={s.id} s={s} />
      ))}
    </span>
  );
}
