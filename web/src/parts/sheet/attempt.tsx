import { seconds } from "../../data/time";
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { evidencePath, problemOf, type Evidence, type Sheet, type SheetAttempt, type Step } from "../../data/api";
import { calls, type Call } from "../../data/calls";
import { Log } from "../../data/log";
import { amount, readings } from "../../data/readings";
import { Waiting } from "../plain";
import { Pick } from "../start/pick";
import { Timeline, type Column, type Moved } from "../timeline";
import { EvidenceLine } from "./evidence";
import { FailureWords } from "./failure";
import { Pictures } from "./pictures";

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

export function Attempt({ run, sheet, a }: { run: number; sheet: Sheet; a: SheetAttempt }) {
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

export const none: Call[] = [];

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
