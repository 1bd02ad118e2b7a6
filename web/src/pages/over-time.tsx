import { Tabs } from "radix-ui";
import { Link, useParams, useSearchParams } from "react-router";
import { inProject, useGet, type CoveredDevices, type Crash, type CrashDetail, type CrashList } from "../data/api";
import { at, plural } from "../data/time";
import { Command, Empty, Heading, Section, Trouble, Waiting } from "../parts/plain";
import { Pick } from "../parts/start/pick";

const spans: [string, string][] = [
  ["7", "the last 7 days"],
  ["30", "the last 30 days"],
  ["90", "the last 90 days"],
  ["365", "the last year"],
];

const dayBefore = (n: number) => new Date(Date.now() - n * 86_400_000).toISOString().slice(0, 10);

/** What was covered by which builds, and which crashes were met. */
export function OverTimePage() {
  const [params, set] = useSearchParams();
  const tab = params.get("tab") ?? "covered";
  const span = params.get("days") ?? "30";
  const put = (name: string, value: string) => set((p) => (p.set(name, value), p), { replace: true });
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title="Over time">
        {tab === "covered" && (
          <>
            <Pick narrow label="Span" value={span} onChange={(v) => put("days", v)} options={spans} />
            <a
              className="button"
              href={inProject(`covered.csv?from=${dayBefore(Number(span))}`)}
              download="covered.csv"
            >
              As a table (CSV)
            </a>
            <a
              className="button"
              href={inProject(`covered.html?from=${dayBefore(Number(span))}&save=1`)}
              download="covered.html"
              title="One page without script, to hand on or to print"
            >
              As a page
            </a>
          </>
        )}
      </Heading>
      <Tabs.Root value={tab} onValueChange={(v) => put("tab", v)}>
        <Tabs.List aria-label="Over time" className="flex gap-3 border-b border-strong">
          {[
            ["covered", "Covered devices"],
            ["crashes", "Crashes"],
          ].map(([v, words]) => (
            <Tabs.Trigger
              key={v}
              value={v!}
              className="border-b-2 border-transparent pb-1 text-soft data-[state=active]:border-ink data-[state=active]:text-ink"
            >
              {words}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <Tabs.Content value="covered">
          <Covered days={Number(span)} />
        </Tabs.Content>
        <Tabs.Content value="crashes">
          <Crashes />
        </Tabs.Content>
      </Tabs.Root>
    </div>
  );
}

function Covered({ days }: { days: number }) {
  const list = useGet<CoveredDevices>(`covered?from=${dayBefore(days)}`, { staleTime: 5000 });
  if (list.error) return <Trouble of={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Waiting what="what was covered" />;
  const items = list.data.items;
  if (items.length === 0)
    return (
      <Empty title="Nothing ran in this span of time.">
        <p>
          As soon as runs have results, this says on which devices, OS versions and languages, with which builds.{" "}
          <Command>yamato covered</Command> prints it.
        </p>
      </Empty>
    );
  const builds = [...new Map(items.map((c) => [`${c.app} ${c.build}`, c])).values()];
  return (
    <>
      {builds.map((b) => {
        const of = items.filter((c) => c.app === b.app && c.build === b.build);
        const languages = [...new Set(of.map((c) => c.language))].sort();
        const devices = [...new Map(of.map((c) => [`${c.platform} ${c.model} ${c.os} ${c.kind}`, c])).values()];
        return (
          <div key={`${b.app} ${b.build}`} className="pt-4">
            <Section
              title={`${b.app} ${b.version}`}
              aside={`${plural(devices.length, "device and OS", "devices and OS versions")}, ${plural(languages.length, "language")}, ${of.reduce((n, c) => n + c.cases, 0).toLocaleString()} cases`}
            >
              <table className="w-full">
                <thead>
                  <tr className="text-left text-sm text-soft">
                    <th className="py-1 font-normal">Device</th>
                    {languages.map((l) => (
                      <th key={l} className="py-1 font-normal">
                        {l}
                      </th>
                    ))}
                    <th className="py-1 font-normal">Last</th>
                  </tr>
                </thead>
                <tbody>
                  {devices.map((d) => {
                    const cells = of.filter(
                      (c) => c.platform === d.platform && c.model === d.model && c.os === d.os && c.kind === d.kind,
                    );
                    const last = cells.reduce((x, c) => (c.last_at > x.last_at ? c : x), cells[0]!);
                    return (
                      <tr key={`${d.model} ${d.os} ${d.kind}`} className="border-t border-rule">
                        <th scope="row" className="py-1 text-left font-normal">
                          {d.model}, {{ android: "Android", ios: "iOS" }[d.platform] ?? d.platform} {d.os}
                          <span className="text-soft">{d.kind === "real" ? ", real" : ""}</span>
                        </th>
                        {languages.map((l) => {
                          const c = cells.find((x) => x.language === l);
                          return (
                            <td key={l} className="py-1">
                              {c ? (
                                <Link
                                  to={`/runs/${c.last_run}`}
                                  className="link"
                                  title={`${plural(c.runs, "run")}; the last is run ${c.last_run}`}
                                >
                                  {c.passed} of {c.cases}
                                  {c.failed > 0 && <span className="text-vermilion">, {c.failed} failed</span>}
                                  {c.errors > 0 && <span className="text-petrol">, {plural(c.errors, "error")}</span>}
                                </Link>
                              ) : (
                                <span className="text-faint">not covered</span>
                              )}
                            </td>
                          );
                        })}
                        <td className="py-1 text-soft">{at(last.last_at)}</td>
                      </tr>
                    );
                  })}
                </tbody>
              </table>
            </Section>
          </div>
        );
      })}
    </>
  );
}

function Crashes() {
  const list = useGet<CrashList>("crashes", { staleTime: 5000 });
  if (list.error) return <Trouble of={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Waiting what="crashes" />;
  if (list.data.items.length === 0)
    return (
      <Empty title="No crash has been met.">
        <p>Reports of crashes are kept, and those of the same stack stand here as one, over runs and builds.</p>
      </Empty>
    );
  return (
    <ul className="pt-2">
      {list.data.items.map((c) => (
        <CrashRow key={c.id} c={c} />
      ))}
    </ul>
  );
}

export function CrashRow({ c }: { c: Crash }) {
  return (
    <li className="flex items-baseline gap-4 border-b border-rule py-1.5">
      <Link to={`/crashes/${c.id}`} className="min-w-0 flex-1 truncate font-medium">
        {c.title}
        {c.stack[0] && <span className="pl-2 font-mono text-sm font-normal text-soft">in {c.stack[0]}</span>}
      </Link>
      <span className="flex-none text-soft">
        {plural(c.met, "time")} on {plural(c.combinations, "combination")}
      </span>
      <span className="w-56 flex-none truncate text-right text-soft">
        {c.first_build === c.last_build ? `only in ${c.first_build}` : `${c.first_build} to ${c.last_build}`}
      </span>
      <span className="w-28 flex-none text-right text-soft">{at(c.last_at)}</span>
    </li>
  );
}

export function CrashPage() {
  const { crash = "" } = useParams();
  const one = useGet<CrashDetail>(`crashes/${Number(crash)}`, { staleTime: 5000 });
  const c = one.data?.crash;
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading
        title={c?.title ?? "Crash"}
        about={
          c &&
          `${c.app}; first in ${c.first_build}, last in ${c.last_build}; met ${plural(c.met, "time")} in ${plural(c.runs, "run")}, on ${plural(c.combinations, "combination")}`
        }
      >
        <Link className="button" to="/over-time?tab=crashes">
          All crashes
        </Link>
      </Heading>
      {one.error && <Trouble of={one.error} retry={() => void one.refetch()} />}
      {one.isPending && <Waiting what="the crash" />}
      {c && (
        <Section title="Stack" aside="addresses, lines and generated names aside">
          {c.stack.length === 0 ? (
            <p className="py-1 text-soft">The report tells of no stack.</p>
          ) : (
            <pre className="overflow-x-auto py-2 font-mono text-sm">{c.stack.join("\n")}</pre>
          )}
        </Section>
      )}
      {one.data && (
        <Section title="Where it was met">
          <ul>
            {one.data.met.map((m) => (
              <li
                key={`${m.run} ${m.leg} ${m.case_index} ${m.attempt}`}
                className="flex gap-4 border-b border-rule py-1"
              >
                <Link
                  className="link w-16 flex-none"
                  to={`/runs/${m.run}?leg=${m.leg}&case=${m.case_index}&attempt=${m.attempt}`}
                >
                  run {m.run}
                </Link>
                <span className="w-32 flex-none">{m.build}</span>
                <span className="min-w-0 flex-1 truncate">{m.case}</span>
                <span className="w-56 flex-none truncate text-soft">
                  {m.model} {m.os}, {m.levels.map((l) => l.words ?? l.value).join(", ")}
                </span>
                <span className="w-28 flex-none text-right text-soft">{at(m.at)}</span>
              </li>
            ))}
          </ul>
        </Section>
      )}
    </div>
  );
}
