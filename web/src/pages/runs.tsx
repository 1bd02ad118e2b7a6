import { useInfiniteQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { get, inProject, outdated, post, type Problem, type Run } from "../data/api";
import { useRuns } from "../data/live";
import { at, lasting, plural } from "../data/time";
import { useStart } from "../parts/use-start";
import { Command, Empty, Heading, Progress, Trouble, Waiting } from "../parts/plain";
import { buildName, RunVerdict } from "../parts/runs";
import { Pick } from "../parts/start/pick";
import { Sure } from "../parts/sure";

type Page = { items: Run[]; next?: number };

export function RunsPage() {
  const [params, set] = useSearchParams();
  const start = useStart();
  const filter = new URLSearchParams();
  for (const k of ["q", "state", "verdict", "build"]) if (params.get(k)) filter.set(k, params.get(k)!);
  const [q, setQ] = useState(params.get("q") ?? "");
  const put = (k: string, v: string) =>
    set(
      (p) => {
        if (v) p.set(k, v);
        else p.delete(k);
        return p;
      },
      { replace: true },
    );
  useEffect(() => {
    const t = setTimeout(() => (params.get("q") ?? "") !== q && put("q", q), 200);
    return () => clearTimeout(t);
  });
  const pages = useInfiniteQuery<Page, Problem, { pages: Page[] }, string[], number>({
    queryKey: [`runs?${filter}`],
    queryFn: ({ pageParam }) => get<Page>(inProject(`runs?${filter}${pageParam ? `&cursor=${pageParam}` : ""}`)),
    initialPageParam: 0,
    getNextPageParam: (p) => p.next,
    placeholderData: (before) => before,
  });
  const late = useRuns();
  const list =
    pages.data?.pages
      .flatMap((p) => p.items)
      .map((r) => ((late.get(r.number)?.last_event ?? -1) >= r.last_event ? late.get(r.number)! : r)) ?? [];
  const [picked, setPicked] = useState<ReadonlySet<number>>(new Set());
  const [trouble, setTrouble] = useState<unknown>();
  const open = list.filter((r) => !r.finished_at);
  const chosen = open.filter((r) => picked.has(r.number));
  const pick = (numbers: number[], on: boolean) =>
    setPicked((p) => {
      const next = new Set(p);
      for (const n of numbers)
        if (on) next.add(n);
        else next.delete(n);
      return next;
    });
  const cancel = async () => {
    setTrouble(undefined);
    try {
      for (const r of chosen) await post<Run>(inProject(`runs/${r.number}/cancel`), {});
      setPicked(new Set());
    } catch (e) {
      setTrouble(e);
    }
    outdated("runs");
    void pages.refetch();
  };
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title="Runs">
        {chosen.length > 0 && (
          <Sure
            question={`Cancel ${plural(chosen.length, "run")}?`}
            more="What is decided stays; what is not is left out, and cannot be taken up again."
            does="Cancel them"
            onYes={() => void cancel()}
          >
            <button className="button">Cancel {plural(chosen.length, "run")}</button>
          </Sure>
        )}
        <input
          type="search"
          aria-label="Find runs"
          placeholder="Number, version, suite, person"
          className="field w-60"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <Pick
          narrow
          label="State"
          value={params.get("state") ?? ""}
          onChange={(v) => put("state", v)}
          options={[
            ["", "any state"],
            ...["queued", "running", "finished", "cancelled"].map((s): [string, string] => [s, s]),
          ]}
        />
        <Pick
          narrow
          label="Verdict"
          value={params.get("verdict") ?? ""}
          onChange={(v) => put("verdict", v)}
          options={[
            ["", "any verdict"],
            ...["pass", "fail", "error", "skip", "none"].map((s): [string, string] => [
              s,
              s === "none" ? "not decided" : s,
            ]),
          ]}
        />
        {params.get("build") && (
          <button className="button" onClick={() => put("build", "")}>
            build {params.get("build")} ×
          </button>
        )}
      </Heading>
      {pages.error && <Trouble of={pages.error} retry={() => void pages.refetch()} />}
      {trouble !== undefined && <Trouble of={trouble} />}
      {pages.isPending && <Waiting what="runs" />}
      {pages.isSuccess && list.length === 0 && (
        <Empty title={filter.size > 0 ? "No run is like that." : "No runs yet."}>
          {filter.size > 0 ? (
            <button
              className="button"
              onClick={() => {
                setQ("");
                set({});
              }}
            >
              Show all runs
            </button>
          ) : (
            <p>
              <button className="link" onClick={() => start()}>
                Start one
              </button>{" "}
              from here, or with <Command>yamato run start --build … --suite …</Command>
            </p>
          )}
        </Empty>
      )}
      {list.length > 0 && (
        <table className="w-full">
          <thead className="border-b border-strong text-left text-sm text-soft">
            <tr>
              {open.length > 0 && (
                <th className="w-7 py-1">
                  <input
                    type="checkbox"
                    aria-label="All runs under way on this page"
                    checked={chosen.length === open.length}
                    onChange={(e) =>
                      pick(
                        open.map((r) => r.number),
                        e.target.checked,
                      )
                    }
                  />
                </th>
              )}
              <th className="py-1 pr-4 font-normal">Run</th>
              <th className="pr-4 font-normal">Build</th>
              <th className="pr-4 font-normal">Verdict</th>
              <th className="w-48 pr-4 font-normal">Results</th>
              <th className="pr-4 font-normal">Began</th>
              <th className="pr-4 text-right font-normal">Took</th>
              <th className="font-normal max-md:hidden">Asked by</th>
            </tr>
          </thead>
          <tbody>
            {list.map((r) => (
              <tr key={r.number} className="border-b border-rule hover:bg-wash">
                {open.length > 0 && (
                  <td>
                    {!r.finished_at && (
                      <input
                        type="checkbox"
                        aria-label={`Run ${r.number}`}
                        checked={picked.has(r.number)}
                        onChange={(e) => pick([r.number], e.target.checked)}
                      />
                    )}
                  </td>
                )}
                <td className="py-1.5 pr-4 font-medium">
                  <Link className="link" to={`/runs/${r.number}`}>
                    Run {r.number}
                  </Link>
                </td>
                <td className="pr-4">
                  <Link className="hover:underline" to={`/builds/${r.build}?app=${encodeURIComponent(r.app)}`}>
                    {buildName(r)}
                  </Link>
                </td>
                <td className="pr-4">
                  <RunVerdict r={r} />
                </td>
                <td className="pr-4">
                  {r.finished_at ? (
                    <span>
                      {r.results}
                      {r.fails > 0 && <span className="text-vermilion">, {r.fails} failed</span>}
                      {r.errors > 0 && <span className="text-petrol">, {r.errors} errors</span>}
                    </span>
                  ) : (
                    <div className="flex items-center gap-2">
                      <Progress
                        done={r.results}
                        of={r.expected}
                        bad={r.fails + r.errors}
                        label={`Progress of run ${r.number}`}
                      />
                      <span className="text-sm whitespace-nowrap text-soft">
                        {r.results} / {r.expected}
                      </span>
                    </div>
                  )}
                </td>
                <td className="pr-4 whitespace-nowrap">{at(r.started_at ?? r.created_at)}</td>
                <td className="pr-4 text-right whitespace-nowrap">
                  {r.started_at && r.finished_at ? lasting(Date.parse(r.finished_at) - Date.parse(r.started_at)) : ""}
                </td>
                <td className="text-soft max-md:hidden">{r.asked_by}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {pages.hasNextPage && (
        <button className="button mt-3" onClick={() => void pages.fetchNextPage()} disabled={pages.isFetchingNextPage}>
          Older runs
        </button>
      )}
    </div>
  );
}
