import type { Step } from "../../data/api";
import { failed, type Call } from "../../data/calls";
import { type Log } from "../../data/log";
import { amount, largest, type Figure, type Readings } from "../../data/readings";
import { lasting } from "../../data/time";
import { Shape } from "../verdict";

export function StepCell({ s, bad }: { s: Step; bad: boolean }) {
  return (
    <span className="flex min-w-0 items-center gap-2">
      <Shape of={s.verdict} />
      <span
        className={`truncate font-mono text-sm ${bad ? "font-medium" : ""}`}
        style={s.depth ? { paddingLeft: 12 * Math.min(s.depth, 6) } : undefined}
      >
        {s.text}
      </span>
      {s.took_ms >= 500 && <span className="ml-auto flex-none text-sm text-faint">{lasting(s.took_ms)}</span>}
    </span>
  );
}

export function LogCell({ log, i, within }: { log: Log; i: number; within?: boolean }) {
  const l = log.line(i);
  return (
    <span className={`truncate font-mono text-sm ${within ? "pl-9" : ""}`}>
      <span
        className={
          l.level === "error"
            ? "font-medium text-vermilion"
            : l.level === "warn"
              ? "font-medium text-petrol"
              : "text-faint"
        }
      >
        {l.level}
      </span>{" "}
      <span className="text-soft">{l.tag}</span> {l.text}
    </span>
  );
}

/** A call: how it ended, where it went, and how long it took beside the longest, of which the filled part was received. */
export function CallCell({ call, longest }: { call: Call; longest: number }) {
  const part = (ms: number) => `${(100 * ms) / longest}%`;
  return (
    <span className="flex min-w-0 items-center gap-1.5">
      <span className={`w-7 flex-none font-mono text-sm ${failed(call) ? "font-medium text-vermilion" : "text-faint"}`}>
        {call.status || "none"}
      </span>
      <span className="min-w-0 flex-1 truncate font-mono text-sm">
        {call.method} {call.short}
      </span>
      <span className="relative h-2 w-[22%] flex-none" aria-hidden>
        <span
          className={`absolute inset-y-0 left-0 border ${failed(call) ? "border-vermilion" : "border-strong"}`}
          style={{ width: part(call.took), minWidth: 3 }}
        />
        <span
          className={`absolute inset-y-0 ${failed(call) ? "bg-vermilion" : "bg-strong"}`}
          style={{ left: part(call.wait), width: part(Math.max(0, call.took - call.wait)) }}
        />
      </span>
      <span className="w-14 flex-none text-right text-sm whitespace-nowrap text-faint">{lasting(call.took)}</span>
    </span>
  );
}

/** The largest value from this moment to the next, as a bar from the left. */
export function ReadingCell({
  readings,
  figure,
  most,
  from,
  to,
}: {
  readings?: Readings;
  figure?: Figure;
  most: number;
  from: number;
  to: number;
}) {
  if (!readings || !figure) return <span />;
  const v = largest(readings, figure, from, to);
  if (Number.isNaN(v)) return <span />;
  const peak = most > 0 && v === most;
  return (
    <span className="relative h-full">
      <span
        className={`absolute inset-y-0 left-0 border-r ${peak ? "border-vermilion bg-vermilion-wash" : "border-strong bg-wash"}`}
        style={{ width: `${most > 0 ? (100 * v) / most : 0}%` }}
      />
      <span className="absolute inset-y-0 left-1 flex items-center text-sm whitespace-nowrap text-soft">
        {amount(v, figure.unit)}
      </span>
    </span>
  );
}
