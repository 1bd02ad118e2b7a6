import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import {
  evidencePath,
  get,
  inProject,
  post,
  useGet,
  type Build,
  type DeviceDetail,
  type Element,
  type Evidence,
  type Run,
  type Screen,
} from "../data/api";
import { useFleet, useTitle } from "../data/live";
import { at, lasting, plural } from "../data/time";
import { systemName } from "../data/weave";
import { Actions, Readiness } from "../parts/care";
import { Heading, Section, Trouble, Waiting } from "../parts/plain";
import { Look, type Seen } from "../parts/look";
import { Pick } from "../parts/start/pick";
import { doing } from "../parts/strip";
import { Shape } from "../parts/verdict";

export function DevicePage() {
  const { device = "" } = useParams();
  useTitle(device);
  const live = useFleet().get(device);
  const d = useGet<DeviceDetail>(`devices/${encodeURIComponent(device)}`, {
    placeholderData: (b) => b,
    refetchInterval: (q) => (q.state.data?.device.checks?.some((c) => !c.ok) ? 1500 : false),
  });
  const { refetch } = d;
  useEffect(() => void refetch(), [live?.state, live?.since, live?.run, live?.reason, refetch]);
  const [params, set] = useSearchParams();
  const looking = params.get("look") !== null;
  if (d.error && !d.data)
    return (
      <div className="p-5">
        <Trouble of={d.error} retry={() => void d.refetch()} />
      </div>
    );
  if (!d.data)
    return (
      <div className="p-5">
        <Waiting what="the device" />
      </div>
    );
  const one = d.data.device;
  const state = live?.state ?? one.state;
  return (
    <div className="mx-auto flex h-full max-w-[1440px] flex-col px-5 pt-5">
      <Heading
        title={one.name}
        about={
          <>
            {one.model}, {systemName(one.platform, one.os)}, {one.kind}, at {one.site}. Now{" "}
            {live?.run ? (
              <>
                running{" "}
                <Link className="link" to={`/runs/${live.run}`}>
                  run {live.run}
                </Link>
              </>
            ) : live ? (
              live.state === "sidelined" ? (
                "sidelined"
              ) : (
                doing(live)
              )
            ) : (
              one.state
            )}
            , since {at(live?.since ?? one.since)}.
          </>
        }
      >
        <Actions d={one} state={state} />
        <button
          className={`button ${looking ? "" : "button-main"}`}
          disabled={state === "offline" || state === "halted"}
          onClick={() =>
            set((p) => {
              if (looking) p.delete("look");
              else p.set("look", "");
              return p;
            })
          }
        >
          {looking ? "Close the screen" : "Look at its screen"}
        </button>
      </Heading>
      <div
        className={`grid min-h-0 flex-1 gap-x-8 ${looking ? "lg:grid-cols-[minmax(280px,1fr)_minmax(0,2.6fr)]" : ""}`}
      >
        <div
          className={`min-h-0 overflow-auto ${looking ? "max-lg:hidden" : ""}`}
          tabIndex={0}
          role="region"
          aria-label="About the device"
        >
          <div className={looking ? "" : "grid gap-x-10 lg:grid-cols-[1fr_1.7fr]"}>
            <div>
              <Readiness d={d.data} />
              <About d={d.data} />
            </div>
            <History d={d.data} short={looking} />
          </div>
        </div>
        {looking && <LookPane device={one.name} busy={state === "leased"} />}
      </div>
    </div>
  );
}

function About({ d }: { d: DeviceDetail }) {
  const one = d.device;
  const facts: [string, string][] = [
    ["Screen", `${one.width} × ${one.height} dp, ${one.form}`],
    ["Memory", `${(one.memory_mb / 1024).toFixed(0)} GB`],
    ["Traits", one.traits.join(", ") || "none"],
    ["Abilities", one.abilities.join(", ") || "none"],
    ["Host", `${d.host.name}, Yamato ${d.host.program}`],
    ...(one.owner
      ? ([
          [
            "Owner",
            `${one.owner}; nothing but the app under test is recorded on it, and it is cleaned of no more than that`,
          ],
        ] as [string, string][])
      : []),
    ...(one.use
      ? ([
          [
            "For",
            [one.use.people.join(", ") || "everybody", one.use.hours ?? "always", one.use.zone ?? ""]
              .filter(Boolean)
              .join(", "),
          ],
        ] as [string, string][])
      : []),
    ...(one.labels?.length ? ([["Labels", one.labels.join(", ")]] as [string, string][]) : []),
    ...(one.hardware_id ? ([["Id", one.hardware_id]] as [string, string][]) : []),
    ...(one.takes_mb
      ? ([["Takes", `${(one.takes_mb / 1024).toFixed(1)} GB of its host while it is up`]] as [string, string][])
      : []),
    ...(one.installed?.length
      ? ([
          [
            "Installed",
            one.installed.map((i) => `${i.id} (${i.version_code}), signed by ${i.signer.slice(0, 12)}…`).join("; "),
          ],
        ] as [string, string][])
      : []),
    ["Link", d.host.linked ? `since ${at(d.host.seen_at)}` : `not linked; last ${at(d.host.seen_at)}`],
  ];
  return (
    <Section title="What it is">
      <dl className="grid grid-cols-[76px_1fr] gap-y-1 py-2">
        {facts.map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="text-soft">{k}</dt>
            <dd className="min-w-0 break-words">{v}</dd>
          </div>
        ))}
      </dl>
    </Section>
  );
}

function History({ d, short }: { d: DeviceDetail; short: boolean }) {
  return (
    <Section
      title="What it did last"
      aside={
        d.history.length > 0 ? `${plural(d.troubles, "device trouble")} in ${plural(d.history.length, "lease")}` : ""
      }
    >
      {d.history.map((s, i) => (
        <div
          key={i}
          className={`grid items-baseline gap-x-3 border-b border-rule py-1.5 ${short ? "grid-cols-[1fr_auto]" : "grid-cols-[130px_1fr_130px_auto]"}`}
        >
          <span className="whitespace-nowrap">
            {s.purpose === "look" ? (
              <span>a look</span>
            ) : (
              <Link className="link font-medium" to={`/runs/${s.run}?leg=${s.leg}&attempt=${s.attempt}`}>
                Run {s.run}
              </Link>
            )}
            {s.attempt > 1 && <span className="text-soft">, attempt {s.attempt}</span>}
          </span>
          {!short && (
            <span className="truncate">
              {s.purpose === "look" ? `${s.app} ${s.version_name}` : `${s.suite}, ${s.app} ${s.version_name}`}
              {s.trouble && <span className="block truncate text-sm text-petrol">{s.trouble}</span>}
            </span>
          )}
          <span className="flex items-center gap-2.5">
            {(
              [
                ["pass", s.passed],
                ["fail", s.failed],
                ["error", s.errors],
                ["skip", s.skipped],
              ] as const
            )
              .filter(([, n]) => n > 0)
              .map(([v, n]) => (
                <span key={v} className="inline-flex items-center gap-1">
                  {n} <Shape of={v} />
                </span>
              ))}
          </span>
          {!short && (
            <span className="text-right whitespace-nowrap text-soft">
              {at(s.began)}
              {s.ended && `, ${lasting(Date.parse(s.ended) - Date.parse(s.began))}`}
            </span>
          )}
        </div>
      ))}
      {d.history.length === 0 && <p className="py-3 text-soft">It has done nothing yet.</p>}
    </Section>
  );
}

/** The device's screen, read anew on demand, or once a second while it works. */
function LookPane({ device, busy }: { device: string; busy: boolean }) {
  const [seen, setSeen] = useState<Seen>();
  const [trouble, setTrouble] = useState<unknown>();
  const [reading, setReading] = useState(false);
  const [build, setBuild] = useState("");
  const [follow, setFollow] = useState(false);
  const builds = useGet<{ items: Build[] }>("builds?limit=50");
  const chosen = builds.data?.items.find((b) => `${b.app} ${b.number}` === build) ?? builds.data?.items[0];

  const work = async (read: () => Promise<Seen>) => {
    setReading(true);
    try {
      setSeen(await read());
      setTrouble(undefined);
    } catch (e) {
      setTrouble(e);
    }
    setReading(false);
  };
  const see = () =>
    work(async () => {
      const s = await post<Screen>(inProject(`devices/${encodeURIComponent(device)}/screens`), {});
      return {
        picture: `data:image/png;base64,${s.picture}`,
        elements: s.elements,
        about: `${s.app ? `${s.app}, ` : ""}as it was at ${at(s.at)}`,
      };
    });
  useEffect(() => {
    void see();
    // once for each device
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [device]);
  useEffect(() => {
    if (!follow || reading) return;
    const t = setTimeout(() => void see(), 800);
    return () => clearTimeout(t);
  });
  return (
    <div className="flex min-h-0 flex-col">
      <div className="flex flex-none flex-wrap items-center gap-2 pb-3">
        <button className="button" onClick={() => void see()} disabled={reading}>
          {reading && !follow ? "Looking…" : "Look again"}
        </button>
        <button className="button" aria-pressed={follow} onClick={() => setFollow(!follow)}>
          {follow ? "Stop following" : "Follow"}
        </button>
        {chosen && (
          <>
            <span className="pl-2 text-soft">or start</span>
            <Pick
              narrow
              label="Build to start"
              value={`${chosen.app} ${chosen.number}`}
              onChange={setBuild}
              options={builds.data!.items.map((b) => [
                `${b.app} ${b.number}`,
                `${b.app} ${b.version_name} (${b.version_code})`,
              ])}
            />
            <button
              className="button"
              disabled={reading || busy}
              title={busy ? "The device is at work" : undefined}
              onClick={() => void work(() => lookWith(device, chosen))}
            >
              and look
            </button>
          </>
        )}
      </div>
      {trouble !== undefined && <Trouble of={trouble} retry={() => void see()} />}
      {!seen && !trouble && <Waiting what="the screen" />}
      {seen && <Look seen={seen} device={device} />}
    </div>
  );
}

/** Starts a build on the device, and gives what was then to be seen. */
async function lookWith(device: string, b: Build): Promise<Seen> {
  const run = await post<Run>(inProject(`devices/${encodeURIComponent(device)}/looks`), {
    build: `#${b.number}`,
    app: b.app,
  });
  let at = run;
  while (!at.finished_at) {
    await new Promise((r) => setTimeout(r, 250));
    at = (await get<{ run: Run }>(inProject(`runs/${run.number}?brief=true`))).run;
  }
  const list = await get<Evidence[]>(inProject(`runs/${run.number}/evidence`));
  const picture = list.find((e) => e.sort === "picture");
  const tree = list.find((e) => e.sort === "tree");
  if (!picture || !tree)
    throw new Error(`${b.app} ${b.version_name} could not be started on ${device}; run ${run.number} tells why.`);
  const elements = await get<Element[]>(inProject(`runs/${run.number}/evidence/${tree.id}/elements`));
  return { picture: evidencePath(run.number, picture.id), elements, about: `${b.app} ${b.version_name}, just started` };
}
