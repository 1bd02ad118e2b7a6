import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { inProject, problemOf, useGet, type Session, type SessionEntry, type Step } from "../data/api";
import { calls, type Call } from "../data/calls";
import { useTitle } from "../data/live";
import { Log } from "../data/log";
import { readings } from "../data/readings";
import { at, seconds } from "../data/time";
import { keptPath } from "../parts/kept";
import { Heading, Trouble, Waiting } from "../parts/plain";
import { Pick } from "../parts/start/pick";
import { Timeline, type Column, type Moved } from "../parts/timeline";

const all: Column[] = ["steps", "log", "network", "readings"];
const nothing: Call[] = [];

async function fetched(path: string): Promise<Response> {
  const r = await fetch(path, { credentials: "same-origin" });
  if (!r.ok) throw await problemOf(r);
  return r;
}

/** A session on the sheet that attempts are on: what was done, the log, the calls and the readings at the same height for the same moment. */
export function SessionSheetPage() {
  const { session = "" } = useParams();
  const number = Number(session);
  const one = useGet<Session>(`sessions/${number}`, { staleTime: 2000 });
  const entries = useGet<SessionEntry[]>(`sessions/${number}/entries`, { staleTime: 2000 });
  useTitle(one.data ? `${one.data.name}, on one time line` : "Session");
  const list = useMemo(() => entries.data ?? [], [entries.data]);
  const last = (kind: string) => list.filter((e) => e.kind === kind && e.media_type).at(-1);
  const kept = { staleTime: Infinity, structuralSharing: false, gcTime: 60_000 } as const;
  const network = last("network");
  const told = last("readings");
  const log = useQuery({
    queryKey: ["session log", number],
    queryFn: async () => Log.of(await (await fetched(inProject(`sessions/${number}/log`))).text()),
    ...kept,
    staleTime: 5000,
  });
  const made = useQuery({
    queryKey: ["session calls", number, network?.seq],
    queryFn: async () =>
      calls((await (await fetched(keptPath(number, network!))).json()) as Parameters<typeof calls>[0]),
    enabled: !!network,
    ...kept,
  });
  const figures = useQuery({
    queryKey: ["session readings", number, told?.seq],
    queryFn: async () =>
      readings(
        await new Response(
          (await fetched(keptPath(number, told!))).body!.pipeThrough(new DecompressionStream("gzip")),
        ).text(),
      ),
    enabled: !!told,
    ...kept,
  });
  const steps = useMemo(
    () =>
      list
        .filter((e) => !["log", "network", "readings", "prepared"].includes(e.kind))
        .map((e, i): Step => ({
          line: i + 1,
          text: e.lines.length > 0 ? e.lines.join("; ") : e.text,
          at_ms: e.at_ms,
          took_ms: 0,
          verdict: e.kind === "crash" ? "fail" : e.kind === "trouble" ? "error" : "pass",
        })),
    [list],
  );
  const [params, set] = useSearchParams();
  const has: Record<Column, boolean> = { steps: true, log: true, network: !!network, readings: !!told };
  const chosen = params.get("columns");
  const key = all.filter((c) => (chosen === null ? has[c] : chosen.split(" ").includes(c))).join(" ");
  const columns = useMemo(() => key.split(" ").filter((c) => c !== "") as Column[], [key]);
  const figure =
    figures.data?.figures.find((f) => f.name === (params.get("figure") ?? "memory")) ?? figures.data?.figures[0];
  const put = (name: string, value: string) => set((p) => (p.set(name, value), p), { replace: true });
  const [when, setWhen] = useState<number>();
  const [moved, setMoved] = useState<Moved>();
  const pictures = list.filter((e) => e.kind === "picture" && e.media_type);
  const shown = pictures.filter((e) => e.at_ms <= (when ?? Infinity) + 1).at(-1) ?? pictures[0];
  const waits = entries.isPending || log.isPending || (!!network && made.isPending);
  return (
    <div className="flex h-full flex-col px-5 pt-5">
      <Heading
        title={one.data?.name ?? `Session ${number}`}
        about={
          one.data &&
          `on one time line: ${one.data.device}, ${one.data.closed_at ? `closed ${at(one.data.closed_at)}` : "still open; calls and readings come with its end"}`
        }
      >
        <Link className="button" to={`/by-hand/${number}`}>
          The session
        </Link>
      </Heading>
      {entries.error && <Trouble of={entries.error} />}
      <div role="group" aria-label="Columns" className="flex flex-none flex-wrap items-center gap-x-3 pb-1 text-sm">
        {all.map((c) => (
          <label key={c} className={`flex items-center gap-1 ${has[c] ? "" : "text-faint"}`}>
            <input
              type="checkbox"
              checked={columns.includes(c)}
              onChange={(e) =>
                put("columns", all.filter((o) => (o === c ? e.target.checked : columns.includes(o))).join(" "))
              }
            />
            {c === "steps" ? "What was done" : c[0]!.toUpperCase() + c.slice(1)}
            {!has[c] && <span>(none)</span>}
          </label>
        ))}
        {figures.data && columns.includes("readings") && (
          <Pick
            narrow
            label="Figure"
            value={figure?.name ?? ""}
            onChange={(v) => put("figure", v)}
            options={figures.data.figures.map((f): [string, string] => [f.name, f.name])}
          />
        )}
      </div>
      <div className="flex min-h-0 flex-1">
        <div className="min-w-0 flex-1">
          {waits ? (
            <Waiting what="what was kept" />
          ) : (
            <Timeline
              columns={columns}
              steps={steps}
              log={log.data ?? Log.none}
              calls={made.data ?? nothing}
              readings={figures.data}
              figure={figure}
              failing={steps.findIndex((s) => s.verdict === "fail")}
              moved={moved}
              onMoment={setWhen}
              trouble={log.error ?? made.error ?? figures.error}
            />
          )}
        </div>
        {shown && (
          <div className="w-[238px] flex-none overflow-auto border-l border-rule px-3">
            <img src={keptPath(number, shown)} alt={shown.text} className="max-w-full rounded border border-rule" />
            <p className="py-1 text-sm text-soft">
              {shown.text}, at {seconds(shown.at_ms)} s
            </p>
            {pictures.map((e) => (
              <button
                key={e.seq}
                className="link block text-left text-sm"
                onClick={() => {
                  setWhen(e.at_ms);
                  setMoved((m) => ({ ms: e.at_ms, by: (m?.by ?? 0) + 1 }));
                }}
              >
                {seconds(e.at_ms)} s: {e.text}
              </button>
            ))}
          </div>
        )}
      </div>
    </div>
  );
}
