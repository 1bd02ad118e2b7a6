import { Switch } from "radix-ui";
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useMemo, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import {
  inProject,
  post,
  useGet,
  type Build,
  type Lineup,
  type NewRun,
  type Problem,
  type Run,
  type RunPreview,
  type Suite,
} from "../data/api";
import { useFleet } from "../data/live";
import { plural } from "../data/time";
import { systemName } from "../data/weave";
import { Command, Modal, Trouble } from "./plain";
import { Part, Pick, Tick } from "./start/pick";
import { Preview } from "./start/preview";

type Draft = {
  build: string;
  suites: string[];
  tags: string[];
  on: string[];
  lineup: string;
  language: string;
  repeat: number;
  realTime: boolean;
  all: boolean;
  seed: string;
};

export const empty: Draft = {
  build: "",
  suites: [],
  tags: [],
  on: [],
  lineup: "",
  language: "en-GB",
  repeat: 0,
  realTime: false,
  all: false,
  seed: "",
};

const shelf = "yamato.draft";

function remembered(): Draft {
  try {
    return { ...empty, ...(JSON.parse(sessionStorage.getItem(shelf) ?? "{}") as Partial<Draft>) };
  } catch {
    return empty;
  }
}

/** Starts a run: what, on what, and, before anything starts, what cannot run and why. */
export function StartRun() {
  const [params, setParams] = useSearchParams();
  const open = params.get("start") === "1";
  const close = () =>
    setParams((p) => {
      p.delete("start");
      p.delete("with");
      p.delete("of");
      p.delete("through");
      return p;
    });
  return (
    <Modal title="Start a run" wide open={open} onClose={close}>
      {open && (
        <StartForm
          build={params.get("with")}
          suite={params.get("of")}
          through={params.get("through")}
          onStarted={close}
        />
      )}
    </Modal>
  );
}

/** How an address names a build: numbers are an app's own. */
export const buildKey = (b: Build) => `${b.app}/${b.number}`;

function StartForm({
  build,
  suite,
  through,
  onStarted,
}: {
  build: string | null;
  suite: string | null;
  through: string | null;
  onStarted: () => void;
}) {
  const builds = useGet<{ items: Build[] }>("builds?limit=50");
  const suites = useGet<Suite[]>("suites");
  const fleet = useFleet();
  const navigate = useNavigate();
  const [d, setD] = useState<Draft>(() => ({
    ...remembered(),
    ...(build ? { build } : {}),
    ...(suite ? { suites: [suite] } : {}),
    ...(through ? { lineup: through } : {}),
  }));
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState<unknown>();
  useEffect(() => sessionStorage.setItem(shelf, JSON.stringify(d)), [d]);
  const change = (part: Partial<Draft>) => {
    setTrouble(undefined);
    setD((before) => ({ ...before, ...part }));
  };

  // The newest are to choose from, and the one that was asked for, however old it is.
  const newest = useMemo(() => builds.data?.items ?? [], [builds.data]);
  const cut = d.build.lastIndexOf("/");
  const far = cut > 0 && builds.isSuccess && !newest.some((b) => buildKey(b) === d.build);
  const old = useGet<Build>(
    `builds/${encodeURIComponent(`#${d.build.slice(cut + 1)}`)}?app=${encodeURIComponent(d.build.slice(0, cut))}`,
    { enabled: far, retry: false },
  );
  const items = far && old.data ? [old.data, ...newest] : newest;
  const chosen = items.find((b) => buildKey(b) === d.build) ?? (far && old.isPending ? undefined : newest[0]);
  const wanted =
    suites.data &&
    (d.suites.length
      ? d.suites.filter((s) => suites.data.some((one) => one.name === s))
      : suites.data.map((s) => s.name));
  const models = useMemo(() => {
    const out = new Map<string, { name: string; detail: string }>();
    for (const one of fleet.values()) {
      const name = `${one.model} ${systemName(one.platform, one.os)}`;
      const before = out.get(name);
      out.set(name, { name, detail: before ? before.detail : `${one.kind}, ${one.site}` });
    }
    return [...out.values()].sort((a, b) => a.name.localeCompare(b.name));
  }, [fleet]);
  const known = [
    ...new Set(
      (suites.data ?? []).filter((s) => wanted?.includes(s.name)).flatMap((s) => s.cases.flatMap((c) => c.tags)),
    ),
  ].sort();
  const tags = d.tags.filter((t) => known.includes(t));
  const lineups = useGet<Lineup[]>("lineups");
  const lineup = lineups.data?.some((l) => l.name === d.lineup) ? d.lineup : "";
  const on = d.on.filter((o) => models.some((m) => m.name === o));

  const request: NewRun | undefined = chosen &&
    wanted && {
      build: `#${chosen.number}`,
      app: chosen.app,
      suites: wanted,
      ...(tags.length ? { tags } : {}),
      ...(lineup ? { lineup } : on.length ? { on } : {}),
      ...(d.language ? { language: d.language } : {}),
      ...(d.repeat ? { repeat_failed: d.repeat } : {}),
      ...(d.realTime ? { real_time: true } : {}),
      ...(d.all ? { keep: { everything: "always" } } : {}),
      ...(d.seed ? { seed: Number(d.seed) } : {}),
    };
  const asked = useDeferredValue(
    JSON.stringify(request && { ...request, seed: undefined, real_time: undefined, keep: undefined }),
  );
  const preview = useQuery<RunPreview, Problem>({
    queryKey: ["run-previews", asked],
    queryFn: () => post<RunPreview>(inProject("run-previews"), JSON.parse(asked)),
    enabled: !!request && (wanted?.length ?? 0) > 0,
    placeholderData: (before) => before,
    retry: false,
  });

  const begin = async () => {
    if (!request) return;
    setBusy(true);
    setTrouble(undefined);
    try {
      const r = await post<Run>(inProject("runs"), request);
      onStarted();
      void navigate(`/runs/${r.number}`);
    } catch (e) {
      setTrouble(e);
      setBusy(false);
    }
  };

  if (builds.isSuccess && items.length === 0)
    return (
      <p className="text-soft">
        A run needs a build. Close this and drop a package anywhere on the page, or hand one in with{" "}
        <Command>yamato build push FILE…</Command>
      </p>
    );
  if (suites.isSuccess && suites.data.length === 0)
    return (
      <p className="text-soft">
        A run needs a suite. Hand yours in with <Command>yamato suite push DIR</Command>
      </p>
    );
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void begin();
      }}
      className="grid gap-x-8 gap-y-4 md:grid-cols-[1fr_1.1fr]"
    >
      <div className="space-y-4">
        <Part title="Build">
          <Pick
            label="Build"
            value={chosen ? buildKey(chosen) : ""}
            onChange={(build) => change({ build })}
            options={items.map((b) => [buildKey(b), `${b.app} ${b.version_name} (${b.version_code})`])}
          />
        </Part>
        <Part title="Suites">
          {suites.data?.map((s) => (
            <Tick
              key={s.name}
              label={s.name}
              detail={plural(s.cases.length, "case")}
              on={wanted?.includes(s.name) ?? false}
              change={(yes) =>
                change({ suites: yes ? [...(wanted ?? []), s.name] : (wanted ?? []).filter((n) => n !== s.name) })
              }
            />
          ))}
        </Part>
        {known.length > 0 && (
          <Part title="Only cases tagged" aside={tags.length === 0 ? "all cases" : `${tags.length} chosen`}>
            <div className="flex flex-wrap gap-x-4">
              {known.map((t) => (
                <Tick
                  key={t}
                  label={t}
                  on={tags.includes(t)}
                  change={(yes) => change({ tags: yes ? [...tags, t] : tags.filter((n) => n !== t) })}
                />
              ))}
            </div>
          </Part>
        )}
        <Part
          title="Devices"
          aside={lineup ? "those that the lineup takes" : on.length === 0 ? "all that fit" : `${on.length} chosen`}
        >
          {(lineups.data?.length ?? 0) > 0 && (
            <div className="pb-1.5">
              <Pick
                label="Lineup"
                value={lineup}
                onChange={(v) => change({ lineup: v })}
                options={[
                  ["", "no lineup: choose by model"],
                  ...lineups.data!.map((l): [string, string] => [l.name, l.name]),
                ]}
              />
            </div>
          )}
          <div hidden={!!lineup} className="max-h-[120px] overflow-auto" tabIndex={0} role="group" aria-label="Models">
            {models.map((m) => (
              <Tick
                key={m.name}
                label={m.name}
                detail={m.detail}
                on={on.includes(m.name)}
                change={(yes) => change({ on: yes ? [...on, m.name] : on.filter((n) => n !== m.name) })}
              />
            ))}
          </div>
        </Part>
        <Part title="Rules">
          <div className="grid grid-cols-[1fr_auto] items-center gap-y-2">
            <label htmlFor="language">Language of the devices</label>
            <input
              id="language"
              className="field w-28"
              value={d.language}
              onChange={(e) => change({ language: e.target.value })}
              spellCheck={false}
            />
            <label htmlFor="repeat">Repeat failed cases</label>
            <input
              id="repeat"
              type="number"
              min={0}
              max={20}
              className="field w-28"
              value={d.repeat}
              onChange={(e) => change({ repeat: Math.max(0, Math.min(20, Number(e.target.value))) })}
            />
            <label htmlFor="seed">Seed of chance</label>
            <input
              id="seed"
              inputMode="numeric"
              placeholder="a new one"
              className="field w-28"
              value={d.seed}
              onChange={(e) => change({ seed: e.target.value.replace(/\D/g, "").slice(0, 15) })}
            />
            <label htmlFor="real">Stand-ins at the pace of a person, to watch</label>
            <Switch.Root
              id="real"
              checked={d.realTime}
              onCheckedChange={(realTime) => change({ realTime })}
              className="relative h-5 w-9 justify-self-end rounded-full border border-strong bg-wash data-[state=checked]:bg-ink"
            >
              <Switch.Thumb className="block size-3.5 translate-x-0.5 rounded-full bg-ink data-[state=checked]:translate-x-[18px] data-[state=checked]:bg-paper" />
            </Switch.Root>
            <label htmlFor="all">Keep everything of this run, video and network of what passes too</label>
            <Switch.Root
              id="all"
              checked={d.all}
              onCheckedChange={(all) => change({ all })}
              className="relative h-5 w-9 justify-self-end rounded-full border border-strong bg-wash data-[state=checked]:bg-ink"
            >
              <Switch.Thumb className="block size-3.5 translate-x-0.5 rounded-full bg-ink data-[state=checked]:translate-x-[18px] data-[state=checked]:bg-paper" />
            </Switch.Root>
          </div>
        </Part>
      </div>
      <div className="flex min-h-0 flex-col gap-3">
        <Part
          title="What will run"
          aside={
            preview.data && !preview.error
              ? `${plural(preview.data.legs, "leg")}: ${plural(preview.data.cases, "case")} in ${plural(preview.data.combinations.length, "combination")}`
              : ""
          }
        >
          {preview.error ? (
            <Trouble of={preview.error} />
          ) : preview.data ? (
            <Preview of={preview.data} />
          ) : (
            <p className="text-faint">Working it out…</p>
          )}
        </Part>
        <div className="sticky -bottom-4 -mb-4 mt-auto flex flex-wrap items-center justify-end gap-3 border-t border-rule bg-sheet pt-3 pb-5">
          {trouble !== undefined && <Trouble of={trouble} />}
          {wanted?.length === 0 && <span className="text-petrol">Choose at least one suite.</span>}
          <button
            type="submit"
            className="button button-main"
            disabled={busy || !request || wanted?.length === 0 || !!preview.error}
          >
            {busy ? "Starting…" : "Start the run"}
          </button>
        </div>
      </div>
    </form>
  );
}
