import { useMemo } from "react";
import { Link, useSearchParams } from "react-router";
import type { Glimpse } from "../data/api";
import { useFleet } from "../data/live";
import { at, plural } from "../data/time";
import { platformName, systemName } from "../data/weave";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { Command, Empty, Heading } from "../parts/plain";
import { Pick } from "../parts/start/pick";
import { Sites } from "../parts/sites";
import { doing } from "../parts/strip";

const groups: Record<string, (d: Glimpse) => string> = {
  site: (d) => d.site,
  model: (d) => d.model,
  platform: (d) => platformName(d.platform),
  os: (d) => `${systemName(d.platform, d.os)}`,
  kind: (d) => d.kind,
  state: (d) => d.state,
  form: (d) => d.form,
  owner: (d) => d.owner ?? "the team's",
  label: (d) => d.labels?.join(", ") || "no label",
};

const names = new Intl.Collator(undefined, { numeric: true }); // kaede-2 before kaede-10

// The order of names is worked out when there are others, not at each change.
let ranks = new Map<string, number>();
function ranked(all: Glimpse[]): Map<string, number> {
  if (ranks.size !== all.length || all.some((d) => !ranks.has(d.name)))
    ranks = new Map(
      all
        .map((d) => d.name)
        .sort(names.compare)
        .map((n, i) => [n, i]),
    );
  return ranks;
}

const order = ["leased", "resetting", "booting", "idle", "halted", "unready", "sidelined", "offline"];
type Line = { group: string; devices: Glimpse[] } | Glimpse;

export function FleetPage() {
  const fleet = useFleet();
  const [params, set] = useSearchParams();
  const get = (k: string) => params.get(k) ?? "";
  const put = (k: string, v: string) =>
    set(
      (p) => {
        if (v) p.set(k, v);
        else p.delete(k);
        return p;
      },
      { replace: true },
    );
  const by = groups[get("by")] ? get("by") : "site";
  const [q, site, state, platform, kind, model, os, form, owner, label] = [
    "q",
    "site",
    "state",
    "platform",
    "kind",
    "model",
    "os",
    "form",
    "owner",
    "label",
  ].map(get) as [string, string, string, string, string, string, string, string, string, string];
  const all = useMemo(() => [...fleet.values()], [fleet]);
  const list = useMemo(() => {
    const needle = q.toLowerCase();
    return all.filter(
      (d) =>
        (!site || d.site === site) &&
        (!state || d.state === state) &&
        (!platform || d.platform === platform) &&
        (!kind || d.kind === kind) &&
        (!model || d.model === model) &&
        (!os || d.os === os) &&
        (!form || d.form === form) &&
        (!owner || d.owner === owner) &&
        (!label || d.labels?.includes(label)) &&
        (!needle ||
          `${d.name} ${d.model} ${d.site} ${d.kind} ${systemName(d.platform, d.os)} ${d.owner ?? ""} ${d.labels?.join(" ") ?? ""} ${doing(d)}`
            .toLowerCase()
            .includes(needle)),
    );
  }, [all, q, site, state, platform, kind, model, os, form, owner, label]);
  const lines = useMemo(() => {
    const rank = ranked(all);
    const sorted = new Map<string, Glimpse[]>();
    for (const d of list) {
      const g = groups[by]!(d);
      const before = sorted.get(g);
      if (before) before.push(d);
      else sorted.set(g, [d]);
    }
    return [...sorted]
      .sort(([a], [b]) => (by === "state" ? order.indexOf(a) - order.indexOf(b) : a.localeCompare(b)))
      .flatMap(([group, devices]): Line[] => [
        { group, devices },
        ...devices.sort((a, b) => rank.get(a.name)! - rank.get(b.name)!),
      ]);
  }, [list, by, all]);
  const choices = (k: keyof Glimpse, any: string): [string, string][] => {
    const seen = new Set<string>();
    for (const d of all) seen.add(String(d[k]));
    return [["", any], ...[...seen].sort().map((v): [string, string] => [v, k === "platform" ? platformName(v) : v])];
  };
  const counts = JSON.stringify(
    all.reduce<Record<string, number>>((n, d) => {
      if (d.kind === "real") n[d.site] = (n[d.site] ?? 0) + 1;
      return n;
    }, {}),
  );
  const real = useMemo(() => JSON.parse(counts) as Record<string, number>, [counts]);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => ("group" in lines[i]! ? 42 : 29),
    overscan: 12,
    getItemKey: (i) => ("group" in lines[i]! ? `group ${lines[i].group}` : lines[i]!.name),
  });
  const more = { model, os, form, owner, label };
  const filtered = !!(q || site || state || platform || kind || model || os || form || owner || label);

  return (
    <div className="mx-auto flex h-full max-w-[1240px] flex-col px-5 pt-5">
      <Heading
        title="Fleet"
        about={
          all.length > 0
            ? `${filtered ? `${list.length} of ` : ""}${plural(all.length, "device")}, ${list.filter((d) => d.state === "idle").length.toLocaleString()} free`
            : undefined
        }
      >
        <input
          type="search"
          aria-label="Find devices"
          placeholder="Name, model, site, state"
          className="field w-48"
          value={q}
          onChange={(e) => put("q", e.target.value)}
        />
        <Pick narrow label="Site" value={site} onChange={(v) => put("site", v)} options={choices("site", "any site")} />
        <Pick
          narrow
          label="Platform"
          value={platform}
          onChange={(v) => put("platform", v)}
          options={choices("platform", "any platform")}
        />
        <Pick narrow label="Kind" value={kind} onChange={(v) => put("kind", v)} options={choices("kind", "any kind")} />
        <Pick
          narrow
          label="State"
          value={state}
          onChange={(v) => put("state", v)}
          options={choices("state", "any state")}
        />
        {Object.entries(more).map(
          ([k, v]) =>
            v && (
              <button
                key={k}
                className="chip hover:bg-wash"
                onClick={() => put(k, "")}
                aria-label={`Show other ${k}s too`}
              >
                {k}: {v} ×
              </button>
            ),
        )}
        <Pick
          narrow
          label="Grouped by"
          value={by}
          onChange={(v) => put("by", v === "site" ? "" : v)}
          options={Object.keys(groups).map((g) => [g, `by ${g === "os" ? "OS" : g}`])}
        />
      </Heading>
      <Sites site={site} real={real} />
      {all.length === 0 && (
        <Empty title="No devices yet.">
          <p>
            A site file lists the devices of a machine or a rack; a host brings them here:{" "}
            <Command>yamato host --site bench.yaml --dir host-data --token-file host-token</Command>
          </p>
        </Empty>
      )}
      {all.length > 0 && list.length === 0 && (
        <Empty title="No device is like that.">
          <button className="button" onClick={() => set({})}>
            Show all devices
          </button>
        </Empty>
      )}
      {list.length > 0 && (
        <div ref={box} className="min-h-0 flex-1 overflow-auto" tabIndex={0} role="region" aria-label="Devices">
          <div role="table" aria-label="Devices" aria-rowcount={lines.length + 1}>
            <div
              role="row"
              className={`sticky top-0 z-10 border-b border-strong bg-paper text-sm text-soft ${columns}`}
            >
              {["Device", "Model", "OS", "Kind", "Now", "Since"].map((h) => (
                <span key={h} role="columnheader" className={h === "Kind" ? "max-md:hidden" : ""}>
                  {h}
                </span>
              ))}
            </div>
            <div style={{ height: virtual.getTotalSize() }} className="relative" role="rowgroup">
              {virtual.getVirtualItems().map((v) => {
                const line = lines[v.index]!;
                const place = { transform: `translateY(${v.start}px)`, height: v.size };
                if ("group" in line)
                  return (
                    <div
                      key={v.key}
                      role="row"
                      className="absolute inset-x-0 flex items-end gap-3 border-b border-rule pb-1"
                      style={place}
                    >
                      <div role="cell">
                        <h2>{line.group}</h2>
                      </div>
                      <span role="cell" className="text-sm text-soft">
                        {line.devices.filter((d) => d.state === "idle").length.toLocaleString()} of{" "}
                        {line.devices.length.toLocaleString()} free
                      </span>
                    </div>
                  );
                return (
                  <div
                    key={v.key}
                    role="row"
                    aria-rowindex={v.index + 2}
                    className={`absolute inset-x-0 border-b border-rule hover:bg-wash ${columns}`}
                    style={place}
                    data-device={line.name}
                  >
                    <span role="cell" className="flex min-w-0 items-center gap-2.5 font-medium">
                      <span className="grid w-[13px] flex-none place-items-center" aria-hidden="true">
                        <span className={`unit unit-${line.state} ${line.form === "tablet" ? "unit-tablet" : ""}`} />
                      </span>
                      <Link to={`/fleet/${encodeURIComponent(line.name)}`} className="link truncate">
                        {line.name}
                      </Link>
                    </span>
                    <span role="cell" className="flex min-w-0 items-center gap-1.5">
                      <Link
                        className="truncate hover:underline"
                        to={{ search: `?model=${encodeURIComponent(line.model)}` }}
                      >
                        {line.model}
                      </Link>
                      {line.owner && (
                        <span className="chip" title={`${line.owner}'s own`}>
                          {line.owner.split(" ")[0]}&rsquo;s
                        </span>
                      )}
                      {line.labels?.map((l) => (
                        <Link
                          key={l}
                          className="chip hover:bg-wash max-md:hidden"
                          to={{ search: `?label=${encodeURIComponent(l)}` }}
                        >
                          {l}
                        </Link>
                      ))}
                    </span>
                    <span role="cell" className="whitespace-nowrap">
                      {systemName(line.platform, line.os)}
                    </span>
                    <span role="cell" className="text-soft max-md:hidden">
                      {line.kind}
                    </span>
                    <span
                      role="cell"
                      className={`truncate ${["offline", "unready", "sidelined"].includes(line.state) ? "text-petrol" : ""}`}
                    >
                      {line.run ? (
                        <>
                          running{" "}
                          <Link className="link" to={`/runs/${line.run}`}>
                            run {line.run}
                          </Link>
                        </>
                      ) : (
                        doing(line)
                      )}
                    </span>
                    <span role="cell" className="whitespace-nowrap text-soft">
                      {at(line.since)}
                    </span>
                  </div>
                );
              })}
            </div>
          </div>
        </div>
      )}
    </div>
  );
}

const columns =
  "grid grid-cols-[minmax(0,1.3fr)_minmax(0,1fr)_100px_100px_minmax(0,1.2fr)_110px] max-md:grid-cols-[minmax(0,1.3fr)_minmax(0,1fr)_90px_minmax(0,1.2fr)_80px] items-center gap-x-4";
