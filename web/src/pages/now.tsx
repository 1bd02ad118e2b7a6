import { Link } from "react-router";
import { useGet, type Glimpse, type Now, type Plan } from "../data/api";
import { useFleet, useRuns } from "../data/live";
import { at, plural } from "../data/time";
import { combinationLabel } from "../data/weave";
import { Command, Empty, Section, Trouble, Waiting } from "../parts/plain";
import { buildName, RunningLine, RunVerdict, WaitsFor } from "../parts/runs";
import { Shape } from "../parts/verdict";
import { useStart } from "../parts/use-start";

/** How many runs are told one by one: the page stays one screen. */
const mostRunning = 8;

export function NowPage() {
  const now = useGet<Now>("now", { refetchInterval: 15_000 });
  const runs = useRuns();
  const fleet = useFleet();
  const start = useStart();
  const plans = useGet<Plan[]>("plans", { refetchInterval: 30_000 });
  const lacking = (plans.data ?? []).filter((p) => p.lacks);
  if (now.error && !now.data)
    return (
      <div className="p-5">
        <Trouble of={now.error} retry={() => void now.refetch()} />
      </div>
    );
  if (!now.data)
    return (
      <div className="p-5">
        <Waiting what="what happens" />
      </div>
    );

  const late = new Map(now.data.running.concat(now.data.finished).map((r) => [r.number, r]));
  for (const r of runs.values())
    if (!late.has(r.number) || r.last_event >= late.get(r.number)!.last_event) late.set(r.number, r);
  const all = [...late.values()].sort((a, b) => b.number - a.number);
  // Those that run before those that wait, and of these the next to run first.
  const running = all
    .filter((r) => !r.finished_at)
    .sort((a, b) => Number(!a.started_at) - Number(!b.started_at) || a.number - b.number);
  const finished = all.filter((r) => r.finished_at).slice(0, 8);
  const under = Math.max(now.data.under_way, running.length);
  const legs = now.data.legs_waiting;
  const failures = gathered(now.data.failures);
  const waits = now.data.waiting.filter((w) => running.some((r) => r.number === w.run));

  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <h1 className="max-w-[90ch] pb-5 font-normal">
        <Headline running={under} fleet={[...fleet.values()]} last={finished[0]} waiting={legs} />
      </h1>
      <div className="grid gap-x-10 lg:grid-cols-[1.15fr_1fr]">
        <div>
          {lacking.length > 0 && (
            <Section
              title="Plans that could not start"
              aside={
                <Link className="link" to="/plans">
                  plans
                </Link>
              }
            >
              {lacking.slice(0, 6).map((p) => (
                <Link
                  key={p.name}
                  to={`/plans/${encodeURIComponent(p.name)}`}
                  className="flex flex-wrap justify-between gap-x-3 border-b border-rule py-1.5 hover:bg-wash"
                >
                  <span className="font-medium">{p.name}</span>
                  <span className="text-petrol">{p.lacks}</span>
                </Link>
              ))}
              {lacking.length > 6 && <p className="py-1 text-soft">and {lacking.length - 6} more</p>}
            </Section>
          )}
          <Section title="Running" aside={under > 0 ? plural(under, "run") : ""}>
            {running.slice(0, mostRunning).map((r) => (
              <RunningLine key={r.number} r={r} />
            ))}
            {under > Math.min(mostRunning, running.length) && (
              <p className="py-1.5 text-soft">
                and {under - Math.min(mostRunning, running.length)} more:{" "}
                <Link className="link" to="/runs?state=running">
                  running
                </Link>
                ,{" "}
                <Link className="link" to="/runs?state=queued">
                  queued
                </Link>
              </p>
            )}
            {running.length === 0 && (
              <p className="py-3 text-soft">
                Nothing runs.{" "}
                <button className="link" onClick={() => start()}>
                  Start a run
                </button>{" "}
                (<kbd>s</kbd>), or <Command>yamato run start --build … --suite …</Command>
              </p>
            )}
          </Section>
          {waits.length > 0 && (
            <Section title="Waiting" aside={plural(legs, "leg")}>
              {waits.slice(0, 12).map((w) => (
                <div
                  key={`${w.run} ${combinationLabel(w.combination)} ${w.combination.kind} ${w.waits_for}`}
                  className="grid grid-cols-[64px_1fr] gap-x-3 border-b border-rule py-1"
                >
                  <Link className="link justify-self-start" to={`/runs/${w.run}`}>
                    Run {w.run}
                  </Link>
                  <div className="flex min-w-0 flex-wrap justify-between gap-x-3">
                    <span>
                      {w.legs > 1 && `${w.legs} × `}
                      {combinationLabel(w.combination)}
                    </span>
                    <WaitsFor w={w} />
                  </div>
                </div>
              ))}
            </Section>
          )}
          <Section
            title="Ended lately"
            aside={
              <Link className="link" to="/runs">
                all runs
              </Link>
            }
          >
            {finished.map((r) => (
              <Link
                key={r.number}
                to={`/runs/${r.number}`}
                className="grid grid-cols-[56px_1fr_auto_auto] items-baseline gap-3 border-b border-rule py-1.5 hover:bg-wash"
              >
                <span className="font-medium">Run {r.number}</span>
                <span className="truncate">{buildName(r)}</span>
                <RunVerdict r={r} />
                <span className="w-16 text-right text-soft">{at(r.finished_at!)}</span>
              </Link>
            ))}
            {finished.length === 0 && (
              <Empty title="No run has ended yet.">
                <p>Drop a package anywhere on this page to hand in a build, and start a run of it.</p>
              </Empty>
            )}
          </Section>
        </div>
        <div>
          <Section title="Last failures" aside={now.data.failures.length > 0 ? "newest first" : ""}>
            {failures.map(({ f, runs }) => (
              <Link
                key={`${f.run} ${f.leg} ${f.case_index} ${f.sentence}`}
                to={`/runs/${f.run}?leg=${f.leg}&case=${f.case_index}`}
                className="flex gap-2.5 border-b border-rule py-2 hover:bg-wash"
              >
                <span className="pt-[5px]">
                  <Shape of={f.verdict} />
                </span>
                <span className="min-w-0 flex-1">
                  <span className="font-medium">{f.case}</span>
                  <span className="block break-words text-soft">{f.sentence}</span>
                  <span className="block text-sm text-faint">
                    {f.suite}, run {f.run} of {f.version_name}, in {plural(f.combinations, "combination")}, {at(f.at)}
                    {runs > 1 && `; so in ${plural(runs - 1, "run")} before`}
                  </span>
                </span>
              </Link>
            ))}
            {now.data.failures.length === 0 && <p className="py-3 text-soft">No failure in the newest runs.</p>}
          </Section>
          <Devices fleet={[...fleet.values()]} />
        </div>
      </div>
    </div>
  );
}

type Failure = Now["failures"][number];

/** The same failure of several runs is told once, with the newest of them. */
function gathered(list: Failure[]): { f: Failure; runs: number }[] {
  const out = new Map<string, { f: Failure; runs: number }>();
  for (const f of list) {
    const k = [f.app, f.suite, f.case, f.sentence].join("\n");
    const before = out.get(k);
    if (before) before.runs++;
    else out.set(k, { f, runs: 1 });
  }
  return [...out.values()];
}

function Headline({
  running,
  waiting,
  fleet,
  last,
}: {
  running: number;
  waiting: number;
  fleet: Glimpse[];
  last?: { number: number; verdict: string; finished_at?: string };
}) {
  const free = fleet.filter((d) => d.state === "idle").length;
  return (
    <>
      {running > 0 ? (
        <b className="font-semibold">{plural(running, "run")} under way</b>
      ) : (
        <b className="font-semibold">Nothing runs</b>
      )}
      {waiting > 0 && `, ${plural(waiting, "leg")} waiting for a device`}.{" "}
      {last?.verdict === "fail" || last?.verdict === "error" ? (
        <>
          The last run{" "}
          <b className={`font-semibold ${last.verdict === "fail" ? "text-vermilion" : "text-petrol"}`}>
            {last.verdict === "fail" ? "failed" : "met trouble"}
          </b>
          .{" "}
        </>
      ) : (
        last && <>The last run {last.verdict === "pass" ? "passed" : `ended: ${last.verdict}`}. </>
      )}
      {fleet.length > 0 ? (
        <>
          <b className="font-semibold">{free}</b> of {plural(fleet.length, "device")} {free === 1 ? "is" : "are"} free.
        </>
      ) : (
        "No device is linked yet."
      )}
    </>
  );
}

function Devices({ fleet }: { fleet: Glimpse[] }) {
  const sites = new Map<string, Glimpse[]>();
  for (const d of fleet) sites.set(d.site, [...(sites.get(d.site) ?? []), d]);
  return (
    <Section
      title="Devices"
      aside={
        <Link className="link" to="/fleet">
          fleet
        </Link>
      }
    >
      {[...sites].map(([site, list]) => {
        const count = (...states: string[]) => list.filter((d) => states.includes(d.state)).length;
        const away = list.length - count("idle", "leased", "resetting");
        return (
          <Link
            key={site}
            to={`/fleet?site=${encodeURIComponent(site)}`}
            className="grid grid-cols-[1fr_auto_auto_auto] gap-4 border-b border-rule py-1.5 hover:bg-wash"
          >
            <span className="font-medium">{site}</span>
            <span>{count("idle")} free</span>
            <span className="text-soft">{count("leased", "resetting")} taken</span>
            <span className={away ? "text-petrol" : "text-faint"}>{away} away</span>
          </Link>
        );
      })}
      {fleet.length === 0 && (
        <p className="py-3 text-soft">
          A host brings its devices: <Command>yamato host --site FILE --dir DIR</Command>
        </p>
      )}
    </Section>
  );
}
