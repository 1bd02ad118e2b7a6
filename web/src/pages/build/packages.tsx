import { type ReactNode } from "react";
import { type Package } from "../../data/api";
import { plural, size } from "../../data/time";
import { platformName } from "../../data/weave";
import { Section } from "../../parts/plain";
import { kindName } from "../builds";

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

export function PackageView({ p }: { p: Package }) {
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
          ["Split into", p.splits && <Parts list={p.splits} />],
          ["SHA-256", <code className="font-mono text-sm break-all">{p.digest}</code>],
        ]}
      />
    </Section>
  );
}

function Parts({ list }: { list: { name: string; size: number }[] }) {
  return <span>{list.map((p) => `${p.name} ${size(p.size)}`).join(", ")}</span>;
}
