import { Toolbar } from "radix-ui";
import { memo, useMemo } from "react";
import { Link } from "react-router";
import type { Glimpse } from "../data/api";
import { useFleet } from "../data/live";
import { plural } from "../data/time";
import { systemName } from "../data/weave";
import { Tip } from "./plain";

export function doing(d: Glimpse): string {
  if (d.run) return `running run ${d.run}`;
  if (d.at_hand) return `in hand: ${d.at_hand}`;
  const words: Record<string, string> = {
    idle: "free",
    leased: "taken",
    resetting: "being cleaned",
    unready: "not ready",
    booting: "booting",
  };
  return (words[d.state] ?? d.state) + (d.reason ? `: ${d.reason}` : "");
}

// More than this and a site is told in numbers: glyphs would run together.
const most = 240;

/** One glyph per device along the bottom of every page. */
export function FleetStrip() {
  const fleet = useFleet();
  const sites = useMemo(() => {
    const out = new Map<string, Glimpse[]>();
    for (const d of fleet.values()) {
      const site = out.get(d.site);
      if (site) site.push(d);
      else out.set(d.site, [d]);
    }
    return [...out].sort(([a], [b]) => a.localeCompare(b));
  }, [fleet]);
  const all = [...fleet.values()];
  const free = all.filter((d) => d.state === "idle").length;
  const taken = all.filter((d) => d.state === "leased" || d.state === "resetting").length;
  const away = all.length - free - taken;
  return (
    <footer aria-label="Fleet" className="flex h-9 flex-none items-center gap-4 border-t border-strong bg-sheet px-5">
      {all.length === 0 ? (
        <span className="text-sm text-soft">
          No devices yet. A host brings them: <code className="command">yamato host --site FILE</code>
        </span>
      ) : (
        <>
          <Toolbar.Root
            aria-label="Devices"
            className="flex min-w-0 flex-1 items-center gap-5 overflow-hidden max-sm:hidden"
          >
            {sites.map(([site, devices]) => (
              <div key={site} className="flex min-w-0 items-center gap-2">
                <Toolbar.Link asChild>
                  <Link
                    to={`/fleet?site=${encodeURIComponent(site)}`}
                    className="text-sm font-medium text-soft hover:text-ink"
                  >
                    {site}
                  </Link>
                </Toolbar.Link>
                {all.length <= most ? (
                  <div className="flex items-center">
                    {devices.map((d) => (
                      <Unit key={d.name} d={d} />
                    ))}
                  </div>
                ) : (
                  <span className="text-sm whitespace-nowrap text-soft">
                    {devices.filter((d) => d.state === "idle").length.toLocaleString()} of{" "}
                    {devices.length.toLocaleString()} free
                  </span>
                )}
              </div>
            ))}
          </Toolbar.Root>
          <span className="text-sm whitespace-nowrap text-soft" role="status" aria-label="Devices in short">
            {free.toLocaleString()} of {plural(all.length, "device")} free
            {taken > 0 && `, ${taken.toLocaleString()} taken`}
            {away > 0 && <span className="text-petrol">, {away} away</span>}
          </span>
        </>
      )}
    </footer>
  );
}

const Unit = memo(function Unit({ d }: { d: Glimpse }) {
  return (
    <Tip
      words={
        <>
          <span className="font-medium">{d.name}</span>
          <br />
          {d.model}, {systemName(d.platform, d.os)}, {d.kind}
          <br />
          {doing(d)}
        </>
      }
    >
      <Toolbar.Link asChild>
        <Link
          to={`/fleet/${encodeURIComponent(d.name)}`}
          aria-label={`${d.name}, ${doing(d)}`}
          className="grid h-7 min-w-[17px] place-items-center rounded hover:bg-wash"
        >
          <span className={`unit unit-${d.state} ${d.form === "tablet" ? "unit-tablet" : ""}`} />
        </Link>
      </Toolbar.Link>
    </Tip>
  );
});
