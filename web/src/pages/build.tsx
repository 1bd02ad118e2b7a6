import { Tabs } from "radix-ui";
import { useState, type ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import {
  inProject,
  outdated,
  patch,
  post,
  useGet,
  type Build,
  type Changes,
  type Fit,
  type Handover,
  type Lineup,
  type Package,
  type Run,
  type Settings,
} from "../data/api";
import { useFleet, useTitle } from "../data/live";
import { at, plural, size } from "../data/time";
import { platformName } from "../data/weave";
import { useStart } from "../parts/frame";
import { buildKey } from "../parts/start";
import { Heading, Modal, Section, Trouble, Waiting } from "../parts/plain";
import { RunVerdict } from "../parts/runs";
import { Pick } from "../parts/start";
import { AppIcon, kindName, Labels } from "./builds";

const views = [
  ["fit", "Where it runs"],
  ["packages", "Packages"],
  ["changes", "What changed"],
  ["settings", "Settings to copy"],
] as const;

export function BuildPage() {
  const { build = "" } = useParams();
  const [params, set] = useSearchParams();
  const app = params.get("app");
  const of = app ? `?app=${encodeURIComponent(app)}` : "";
  const path = `builds/${encodeURIComponent(/^\d+$/.test(build) ? `#${build}` : build)}`; // a version may be called 12 too
  const b = useGet<Build>(path + of);
  const start = useStart();
  const [asked, setAsked] = useState<"" | "note" | "hand">("");
  const [trouble, setTrouble] = useState<unknown>();
  useTitle(b.data ? `${b.data.app} ${b.data.version_name}` : "Build");
  if (b.error)
    return (
      <div className="p-5">
        <Trouble of={b.error} retry={() => void b.refetch()} />
      </div>
    );
  if (!b.data)
    return (
      <div className="p-5">
        <Waiting what="the build" />
      </div>
    );
  const one = b.data;
  const change = (part: Partial<BuildPatch>) =>
    patch<Build>(inProject(path + of), part).then(() => {
      setTrouble(undefined);
      outdated("builds");
    }, setTrouble);
  const view = views.some(([v]) => v === params.get("view")) ? params.get("view")! : "fit";
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading
        title={
          <span className="flex items-center gap-3">
            <AppIcon b={one} large />
            <span>
              {one.app} {one.version_name} ({one.version_code})
            </span>
          </span>
        }
        about={
          <div className="space-y-0.5 pt-1">
            <div className="flex flex-wrap items-center gap-2">
              Build {one.number}, handed in {at(one.created_at)}. <Labels b={one} />
            </div>
            {one.note && <div>{one.note}</div>}
          </div>
        }
      >
        <button className="button" onClick={() => setAsked("note")}>
          Note and labels
        </button>
        <button
          className="button"
          aria-pressed={one.pinned}
          title="Retention never removes a pinned build"
          onClick={() => void change({ pinned: !one.pinned })}
        >
          {one.pinned ? "Unpin" : "Pin"}
        </button>
        <button className="button" onClick={() => setAsked("hand")}>
          Hand to a phone
        </button>
        <button className="button button-main" onClick={() => start({ with: buildKey(one) })}>
          Start a run of it
        </button>
      </Heading>
      {trouble !== undefined && <Trouble of={trouble} />}
      {one.removed_at && (
        <p className="pb-3 text-petrol">
          Retention removed its packages on {at(one.removed_at)}. What ran of it stays; push it again to run it again.
        </p>
      )}
      <div className="grid gap-x-10 lg:grid-cols-[1.9fr_1fr]">
        <Tabs.Root
          value={view}
          onValueChange={(v) =>
            set(
              (p) => {
                if (v === "fit") p.delete("view");
                else p.set("view", v);
                return p;
              },
              { replace: true },
            )
          }
        >
          <Tabs.List aria-label="About the build" className="mb-2 flex gap-1 border-b border-strong">
            {views.map(([v, words]) => (
              <Tabs.Trigger
                key={v}
                value={v}
                className="-mb-px border-b-2 border-transparent px-2 pb-1.5 text-soft hover:text-ink data-[state=active]:border-ink data-[state=active]:font-medium data-[state=active]:text-ink"
              >
                {words}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          <Tabs.Content value="fit">
            <FitView path={path} of={of} />
          </Tabs.Content>
          <Tabs.Content value="packages">
            {one.packages.map((p) => (
              <PackageView key={p.digest} p={p} />
            ))}
          </Tabs.Content>
          <Tabs.Content value="changes">
            <ChangesView path={path} of={of} />
          </Tabs.Content>
          <Tabs.Content value="settings">
            <SettingsView path={path} app={one.app} />
          </Tabs.Content>
        </Tabs.Root>
        <RunsOf b={one} />
      </div>
      <Modal title="Note and labels" open={asked === "note"} onClose={() => setAsked("")}>
        {asked === "note" && <NoteForm b={one} onSave={(part) => void change(part).then(() => setAsked(""))} />}
      </Modal>
      <Modal
        title="Hand to a phone"
        about="A page from which a phone can install the build, for an hour."
        open={asked === "hand"}
        onClose={() => setAsked("")}
      >
        {asked === "hand" && <Hand path={path} of={of} />}
      </Modal>
    </div>
  );
}

type BuildPatch = { note: string; pinned: boolean; labels: Record<string, string> };

/** Devices of one kind of which the same is to be said, together. */
function alike(list: Fit[]) {
  const groups = new Map<string, [Fit, ...Fit[]]>();
  for (const f of list) {
    const key = JSON.stringify([f.model, f.platform, f.os, f.kind, f.reasons]);
    const group = groups.get(key);
    if (group) group.push(f);
    else groups.set(key, [f]);
  }
  return [...groups.values()];
}

const difference = (n: number) => `${n < 0 ? "−" : "+"}${size(Math.abs(n))}`;

/** "idle", or "3 idle, 1 leased". */
function tally(words: string[]) {
  const counts = new Map<string, number>();
  for (const w of words) counts.set(w, (counts.get(w) ?? 0) + 1);
  return words.length === 1 ? words[0] : [...counts].map(([w, n]) => `${n} ${w}`).join(", ");
}

/** Each device with the package that it takes, or with every reason why none. */
function FitView({ path, of }: { path: string; of: string }) {
  const fleet = useFleet();
  const list = useGet<Fit[]>(`${path}/fit${of}`, { refetchInterval: 10_000 });
  const [params, set] = useSearchParams();
  const misfits = params.get("misfits") !== null;
  if (list.error) return <Trouble of={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Waiting what="where it runs" />;
  const fits = list.data.filter((f) => f.reasons.length === 0);
  const cannot = list.data.filter((f) => f.reasons.length > 0);
  const groups = alike(misfits ? cannot : [...cannot, ...fits]);
  const shown = groups.slice(0, 300);
  return (
    <div>
      <div className="flex items-baseline justify-between gap-3 pb-1">
        <p>
          <span className="font-medium">
            {fits.length} of {plural(list.data.length, "device")}
          </span>{" "}
          can run it.
        </p>
        <button
          className="link"
          onClick={() =>
            set(
              (p) => {
                if (misfits) p.delete("misfits");
                else p.set("misfits", "");
                return p;
              },
              { replace: true },
            )
          }
        >
          {misfits ? "Show all devices" : "Only those that cannot"}
        </button>
      </div>
      <table className="w-full">
        <thead className="border-b border-rule text-left text-sm text-soft">
          <tr>
            <th className="py-1 pr-3 font-normal">Device</th>
            <th className="pr-3 font-normal">Runs it with</th>
            <th className="font-normal">Now</th>
          </tr>
        </thead>
        <tbody>
          {shown.map(([f, ...others]) => (
            <tr
              key={f.device}
              className="border-b border-rule align-top"
              data-device={f.device}
              data-fits={f.reasons.length === 0}
            >
              <td className="w-[42%] py-1.5 pr-3">
                {[f, ...others.slice(0, 5)].map((o, i) => (
                  <span key={o.device}>
                    {i > 0 && ", "}
                    <Link className="link font-medium" to={`/fleet/${encodeURIComponent(o.device)}`}>
                      {o.device}
                    </Link>
                  </span>
                ))}
                {others.length > 5 && ` and ${others.length - 5} more`}
                <span className="block text-sm text-soft">
                  {f.model}, {platformName(f.platform)} {f.os}, {f.kind}
                </span>
              </td>
              <td className="py-1.5 pr-3">
                {f.reasons.length === 0
                  ? kindName(f.package_kind ?? "")
                  : f.reasons.map((r) => (
                      <div key={r.why} className="flex gap-2 pb-1">
                        <span className="verdict verdict-error mt-[5px] flex-none" aria-hidden="true" />
                        <span>
                          <span className="text-petrol">{r.why}</span>
                          <span className="block text-soft">{r.remedy}</span>
                        </span>
                      </div>
                    ))}
              </td>
              <td className="py-1.5 whitespace-nowrap text-soft">
                {tally([f, ...others].map((o) => fleet.get(o.device)?.state ?? o.state))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {groups.length > 300 && (
        <p className="py-2 text-soft">The first 300 kinds of devices are shown; `yamato build fit` lists all.</p>
      )}
    </div>
  );
}

const day = (t: string) => new Date(t).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric" });

function Facts({ list }: { list: [string, ReactNode][] }) {
  return (
    <dl className="grid grid-cols-[140px_1fr] gap-y-1 py-2">
      {list
        .filter(([, v]) => Boolean(v))
        .map(([k, v]) => (
          <div key={k} className="contents">
            <dt className="text-soft">{k}</dt>
            <dd className="min-w-0 break-words">{v}</dd>
          </div>
        ))}
    </dl>
  );
}

function PackageView({ p }: { p: Package }) {
  const os = (v?: string, api?: number) => v && `${platformName(p.platform)} ${v}${api ? ` (API ${api})` : ""}`;
  const s = p.signing;
  const r = p.profile;
  const gone = (t: string) => Date.parse(t) < Date.now();
  return (
    <Section title={kindName(p.kind)} aside={size(p.size)}>
      <Facts
        list={[
          ["File", p.file_name],
          ["Application id", <code className="font-mono text-sm">{p.application_id}</code>],
          ["Tests", p.instruments],
          ["Needs", os(p.minimum_os, p.minimum_api)],
          ["Built against", os(p.target_os, p.target_api)],
          ["Native code", p.abis?.join(", ")],
          ["Forms", p.forms?.join(", ")],
          ["Required traits", p.needs?.join(", ")],
          ["Starts with", p.launch && <code className="font-mono text-sm">{p.launch}</code>],
          ["Debuggable", p.debuggable && "yes"],
          ["Languages", p.languages?.join(", ")],
          [
            p.platform === "ios" ? "Declared uses" : "Permissions",
            p.permissions.map((x) => x.replace("android.permission.", "")).join(", "),
          ],
          [
            "Signed by",
            p.kind === "android_package" && !s ? (
              <span className="text-petrol">nobody: no device would install it</span>
            ) : (
              s && (
                <>
                  {s.subject}
                  <span className="block text-sm text-soft">
                    {s.schemes[0] === "profile" ? "the profile's developer" : `schemes ${s.schemes.join(", ")}`},
                    certificate until {day(s.expires)}
                  </span>
                  <code className="block font-mono text-sm break-all text-soft">{s.fingerprint}</code>
                </>
              )
            ),
          ],
          [
            "Profile",
            r && (
              <>
                {r.name}, of {r.team} ({r.team_id}),{" "}
                <span className={gone(r.expires) ? "text-petrol" : ""}>
                  {gone(r.expires) ? "expired on" : "until"} {day(r.expires)}
                </span>
                <span className="block text-sm text-soft">
                  {r.all_devices
                    ? "for all devices"
                    : `lists ${plural(r.devices.length, "device")}: ${r.devices.join(", ")}`}
                </span>
                <span className="block text-sm text-soft">{r.entitlements.join(", ")}</span>
              </>
            ),
          ],
          ["Size", p.parts && <Parts list={p.parts} />],
          ["SHA-256", <code className="font-mono text-sm break-all">{p.digest}</code>],
        ]}
      />
    </Section>
  );
}

function Parts({ list }: { list: { name: string; size: number }[] }) {
  return <span>{list.map((p) => `${p.name} ${size(p.size)}`).join(", ")}</span>;
}

function ChangesView({ path, of }: { path: string; of: string }) {
  const c = useGet<Changes>(`${path}/changes${of}`);
  if (c.error) return <Trouble of={c.error} retry={() => void c.refetch()} />;
  if (!c.data) return <Waiting what="what changed" />;
  if (!c.data.against)
    return <p className="py-3 text-soft">It is the first build of its app: there is nothing to compare it with.</p>;
  const kinds = [...new Set(c.data.changes.map((x) => x.package))];
  return (
    <div>
      <p className="pb-2 text-soft">
        Against{" "}
        <Link className="link" to={`/builds/${c.data.against.number}?app=${encodeURIComponent(c.data.against.app)}`}>
          {c.data.against.version_name} ({c.data.against.version_code})
        </Link>
        , the build before.
      </p>
      {kinds.map((k) => (
        <Section key={k} title={kindName(k)}>
          {c.data.changes
            .filter((x) => x.package === k)
            .map((x) => (
              <div key={x.what} className="grid grid-cols-[170px_1fr] border-b border-rule py-1">
                <span className="text-soft">{x.what}</span>
                <span>
                  {x.what.startsWith("size of") ? (
                    <>
                      {size(Number(x.after))}, was {size(Number(x.before))}{" "}
                      <span className="text-soft">({difference(Number(x.after) - Number(x.before))})</span>
                    </>
                  ) : x.added || x.removed ? (
                    <>
                      {x.added?.map((v) => (
                        <div key={v}>new: {v}</div>
                      ))}
                      {x.removed?.map((v) => (
                        <div key={v}>gone: {v}</div>
                      ))}
                    </>
                  ) : (
                    <>
                      {x.after ?? "none"}, was {x.before ?? "none"}
                    </>
                  )}
                </span>
              </div>
            ))}
        </Section>
      ))}
      {kinds.length === 0 && <p className="py-3 text-soft">Nothing that packages tell of has changed.</p>}
    </div>
  );
}

function SettingsView({ path, app }: { path: string; app: string }) {
  const fleet = useFleet();
  const lineups = useGet<Lineup[]>("lineups");
  const [params, set] = useSearchParams();
  const on = params.get("on") ?? "";
  const [sort, name] = on.includes(":") ? [on.slice(0, on.indexOf(":")), on.slice(on.indexOf(":") + 1)] : ["", ""];
  const query = new URLSearchParams({ app, ...(sort ? { [sort]: name } : {}) });
  const s = useGet<Settings>(`${path}/settings?${query.toString()}`, { placeholderData: (b) => b });
  const options: [string, string][] = [
    ["", "on everything that fits"],
    ...(lineups.data ?? []).map((l): [string, string] => [`lineup:${l.name}`, `on the lineup ${l.name}`]),
    ...[...fleet.values()]
      .slice(0, 300)
      .map((d): [string, string] => [`device:${d.name}`, `on devices like ${d.name}`]),
  ];
  return (
    <div className="space-y-3">
      <Pick
        label="Where to run it"
        value={on}
        options={options}
        onChange={(v) =>
          set(
            (p) => {
              if (v) p.set("on", v);
              else p.delete("on");
              return p;
            },
            { replace: true },
          )
        }
      />
      {s.error && <Trouble of={s.error} />}
      {s.data && (
        <>
          <Copy title="Command" text={s.data.command} />
          <Copy title="Document, a file for yamato run start --request" text={s.data.document} />
          <Copy title={`Request, for POST ${s.data.path}`} text={s.data.request} />
        </>
      )}
    </div>
  );
}

function Copy({ title, text }: { title: string; text: string }) {
  const [done, setDone] = useState(false);
  return (
    <div>
      <div className="flex items-baseline justify-between pb-1">
        <h2>{title}</h2>
        <button
          className="link"
          onClick={() => {
            void navigator.clipboard?.writeText(text).then(() => {
              setDone(true);
              setTimeout(() => setDone(false), 1500);
            });
          }}
        >
          {done ? "Copied" : "Copy"}
        </button>
      </div>
      <pre
        className="overflow-auto border border-rule bg-sheet px-3 py-2 font-mono text-sm whitespace-pre-wrap"
        tabIndex={0}
        aria-label={title}
      >
        {text.trimEnd()}
      </pre>
    </div>
  );
}

function RunsOf({ b }: { b: Build }) {
  const runs = useGet<{ items: Run[] }>(`runs?build=${b.number}&limit=20`);
  const mine = runs.data?.items.filter((r) => r.app === b.app) ?? [];
  return (
    <Section title="Runs of it">
      {mine.map((r) => (
        <Link
          key={r.number}
          to={`/runs/${r.number}`}
          className="grid grid-cols-[56px_1fr_auto] items-baseline gap-3 border-b border-rule py-1.5 hover:bg-wash"
        >
          <span className="font-medium">Run {r.number}</span>
          <RunVerdict r={r} />
          <span className="text-soft">{at(r.started_at ?? r.created_at)}</span>
        </Link>
      ))}
      {runs.isSuccess && mine.length === 0 && <p className="py-3 text-soft">It has not run yet.</p>}
    </Section>
  );
}

function NoteForm({ b, onSave }: { b: Build; onSave: (part: Partial<BuildPatch>) => void }) {
  const [note, setNote] = useState(b.note);
  const before = Object.entries(b.labels)
    .map(([k, v]) => `${k}=${v}`)
    .join("\n");
  const [labels, setLabels] = useState(before);
  return (
    <form
      className="grid gap-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        const next: Record<string, string> = Object.fromEntries(Object.keys(b.labels).map((k) => [k, ""]));
        for (const line of labels.split("\n")) {
          const i = line.indexOf("=");
          if (line.trim()) next[(i < 0 ? line : line.slice(0, i)).trim()] = i < 0 ? "" : line.slice(i + 1).trim();
        }
        onSave({ note, labels: next });
      }}
    >
      <label className="grid gap-1">
        Note
        <textarea
          className="field min-h-20 py-1.5"
          maxLength={2000}
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
      </label>
      <label className="grid gap-1">
        Labels, one a line, as in branch=main
        <textarea
          className="field min-h-24 py-1.5 font-mono text-sm"
          value={labels}
          onChange={(e) => setLabels(e.target.value)}
          spellCheck={false}
        />
      </label>
      <div className="flex justify-end">
        <button type="submit" className="button button-main">
          Save
        </button>
      </div>
    </form>
  );
}

function Hand({ path, of }: { path: string; of: string }) {
  const [page, setPage] = useState<Handover>();
  const [trouble, setTrouble] = useState<unknown>();
  const [minutes, setMinutes] = useState(60);
  if (!page)
    return (
      <form
        className="grid gap-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          post<Handover>(inProject(`${path}/handovers${of}`), { minutes }).then(setPage, setTrouble);
        }}
      >
        <label className="flex items-center justify-between gap-3">
          How long the page is there, in minutes
          <input
            type="number"
            className="field w-28"
            min={1}
            max={10080}
            value={minutes}
            onChange={(e) => setMinutes(Number(e.target.value))}
          />
        </label>
        {trouble !== undefined && <Trouble of={trouble} />}
        <div className="flex justify-end">
          <button type="submit" className="button button-main">
            Make the page
          </button>
        </div>
      </form>
    );
  return (
    <div className="text-center">
      <img
        className="mx-auto size-56 rounded bg-white p-2"
        src={`data:image/png;base64,${page.qr}`}
        alt="The page's address as a QR code"
      />
      <p className="pt-2 break-all">
        <a className="link" href={page.url} target="_blank" rel="noreferrer">
          {page.url}
        </a>
      </p>
      <p className="text-soft">Until {at(page.expires_at)}. Whoever has the address can install it.</p>
      {page.hint && (
        <p role="note" className="mt-3 border-l-2 border-petrol bg-petrol-wash px-3 py-2 text-left text-petrol">
          {page.reachable ? "" : "No phone can open it as it is: "}
          {page.hint}.
        </p>
      )}
    </div>
  );
}
