import { Link, useParams, useSearchParams } from "react-router";
import { useGet, type Build, type Run } from "../data/api";
import { useTitle } from "../data/live";
import { at, size } from "../data/time";
import { platformName } from "../data/weave";
import { useStart } from "../parts/frame";
import { Heading, Section, Trouble, Waiting } from "../parts/plain";
import { RunVerdict } from "../parts/runs";
import { kindName } from "./builds";

export function BuildPage() {
  const { build = "" } = useParams();
  const [params] = useSearchParams();
  const app = params.get("app");
  const b = useGet<Build>(`builds/${encodeURIComponent(build)}${app ? `?app=${encodeURIComponent(app)}` : ""}`);
  const runs = useGet<{ items: Run[] }>(`runs?build=${encodeURIComponent(build)}&limit=20`);
  const start = useStart();
  useTitle(b.data ? `${b.data.app} ${b.data.version_name}` : "Build");
  if (b.error) return <div className="p-5"><Trouble of={b.error} retry={() => void b.refetch()} /></div>;
  if (!b.data) return <div className="p-5"><Waiting what="the build" /></div>;
  const mine = runs.data?.items.filter((r) => r.app === b.data.app) ?? [];
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title={`${b.data.app} ${b.data.version_name} (${b.data.version_code})`} about={`Build ${b.data.number}, handed in ${at(b.data.created_at)}`}>
        <button className="button button-main" onClick={() => start({ with: String(b.data.number) })}>
          Start a run of it
        </button>
      </Heading>
      <div className="grid gap-x-10 lg:grid-cols-[1.4fr_1fr]">
        <div>
          {b.data.packages.map((p) => (
            <Section key={p.digest} title={kindName(p.kind)} aside={size(p.size)}>
              <dl className="grid grid-cols-[140px_1fr] gap-y-1 py-2">
                {(
                  [
                    ["File", p.file_name],
                    ["Application id", <code className="font-mono text-sm">{p.application_id}</code>],
                    ["Version", `${p.version_name} (${p.version_code})`],
                    ["Needs", `${platformName(p.platform)} ${p.minimum_os} or newer`],
                    [p.platform === "ios" ? "Declared uses" : "Permissions", p.permissions.length ? p.permissions.map((x) => x.replace("android.permission.", "")).join(", ") : "none"],
                    ["SHA-256", <code className="font-mono text-sm break-all">{p.digest}</code>],
                  ] as const
                ).map(([k, v]) => (
                  <div key={k} className="contents">
                    <dt className="text-soft">{k}</dt>
                    <dd className="min-w-0 break-words">{v}</dd>
                  </div>
                ))}
              </dl>
            </Section>
          ))}
        </div>
        <Section title="Runs of it">
          {mine.map((r) => (
            <Link key={r.number} to={`/runs/${r.number}`} className="grid grid-cols-[56px_1fr_auto] items-baseline gap-3 border-b border-rule py-1.5 hover:bg-wash">
              <span className="font-medium">Run {r.number}</span>
              <RunVerdict r={r} />
              <span className="text-soft">{at(r.started_at ?? r.created_at)}</span>
            </Link>
          ))}
          {runs.isSuccess && mine.length === 0 && <p className="py-3 text-soft">It has not run yet.</p>}
        </Section>
      </div>
    </div>
  );
}
