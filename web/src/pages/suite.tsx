import { lazy, Suspense, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { useGet, type SuiteDetail } from "../data/api";
import { isScript } from "../data/names";
import { Tabs } from "radix-ui";
import { useTitle } from "../data/live";
import { at, plural } from "../data/time";
import { useStart } from "../parts/use-start";
import { Heading, Section, Tip, Trouble, Waiting } from "../parts/plain";
import { Shape, verdictWords } from "../parts/verdict";

const Versions = lazy(async () => ({ default: (await import("../parts/script-versions")).Versions }));
const ScriptText = lazy(async () => ({ default: (await import("../parts/script")).ScriptText }));

export function SuitePage() {
  const { suite = "" } = useParams();
  const [params, set] = useSearchParams();
  const d = useGet<SuiteDetail>(`suites/${encodeURIComponent(suite)}`);
  const start = useStart();
  const [line, setLine] = useState<number>();
  const [tab, setTab] = useState("text");
  useTitle(suite);
  if (d.error && !d.data)
    return (
      <div className="p-5">
        <Trouble of={d.error} retry={() => void d.refetch()} />
      </div>
    );
  if (!d.data)
    return (
      <div className="p-5">
        <Waiting what="the suite" />
      </div>
    );
  const chosen = params.get("case");
  const { suite: s, last, findings, text, files } = d.data;
  const kept = s.origin === "kept";
  const beside = files.filter((f) => isScript(f.path));
  const own = findings.filter((f) => !f.file);
  const target = line ?? last.find((c) => c.name === chosen)?.line;
  return (
    <div className="flex h-full flex-col px-5 pt-5">
      <Heading
        title={s.name}
        about={`Revision ${s.revision}${kept ? ", written here" : ` of ${s.file_name}, handed in from a folder`}${s.by ? ` by ${s.by}` : ""}, ${at(s.created_at)}`}
      >
        {kept && (
          <Link className="button" to={`/write/${encodeURIComponent(s.name)}`}>
            Write on
          </Link>
        )}
        <button className="button button-main" onClick={() => start({ of: s.name })}>
          Start a run of it
        </button>
      </Heading>
      <div className="grid min-h-0 flex-1 grid-rows-[auto_minmax(240px,1fr)] gap-x-8 lg:grid-cols-[1fr_1.25fr] lg:grid-rows-1">
        <div className="min-h-0 overflow-auto" tabIndex={0} role="region" aria-label="Cases and findings">
          <Section title="Cases" aside="newest run first">
            {last.map((c) => {
              const tags = s.cases.find((x) => x.name === c.name)?.tags ?? [];
              return (
                <div key={c.name} className={`border-b border-rule py-1.5 ${chosen === c.name ? "bg-picked" : ""}`}>
                  <div className="flex items-start justify-between gap-4">
                    <button
                      className="text-left font-medium hover:underline"
                      onClick={() => {
                        setLine(c.line);
                        set({ case: c.name }, { replace: true });
                      }}
                    >
                      {c.name}
                    </button>
                    <span className="flex flex-none items-center pt-0.5">
                      {c.runs.slice(0, 10).map((r) => (
                        <Tip
                          key={r.run}
                          words={`Run ${r.run}, ${r.version_name}, ${at(r.at)}: ${verdictWords(r.verdict, r.flaky)}`}
                        >
                          <Link
                            to={`/runs/${r.run}`}
                            aria-label={`Run ${r.run} of ${r.version_name}: ${verdictWords(r.verdict, r.flaky)}`}
                            className="grid size-6 place-items-center rounded hover:bg-wash"
                          >
                            <Shape of={r.verdict} flaky={r.flaky} silent />
                          </Link>
                        </Tip>
                      ))}
                      {c.runs.length === 0 && <span className="text-sm text-faint">never run</span>}
                    </span>
                  </div>
                  {tags.length > 0 && <p className="text-sm text-soft">{tags.join(", ")}</p>}
                </div>
              );
            })}
          </Section>
          <Section title="The check" aside={findings.length > 0 ? plural(findings.length, "finding") : ""}>
            {findings.length === 0 && <p className="py-2 text-soft">It finds nothing amiss.</p>}
            {findings.map((f) => (
              <button
                key={`${f.file ?? ""} ${f.line} ${f.column} ${f.message}`}
                onClick={() => (f.file ? setTab(f.file) : (setTab("text"), setLine(f.line)))}
                className="flex w-full gap-3 border-b border-rule py-1.5 text-left hover:bg-wash"
              >
                <span className="w-14 flex-none font-mono text-sm text-faint">
                  {f.line}:{f.column}
                </span>
                <span>
                  <span className={f.advice ? "" : "text-vermilion"}>{f.message}</span>
                  {f.hint && <span className="block text-sm text-soft">{f.hint}</span>}
                </span>
              </button>
            ))}
          </Section>
        </div>
        <Tabs.Root value={tab} onValueChange={setTab} className="flex min-h-0 flex-col">
          <Tabs.List aria-label="Texts" className="flex flex-none flex-wrap gap-x-4 border-b border-strong">
            {[["text", "The suite"], ...beside.map((f) => [f.path, f.path]), ["versions", "Versions"]].map(
              ([value, words]) => (
                <Tabs.Trigger
                  key={value}
                  value={value!}
                  className="border-b-2 border-transparent pb-1 text-soft data-[state=active]:border-ink data-[state=active]:text-ink"
                >
                  {words}
                </Tabs.Trigger>
              ),
            )}
            {!kept && <span className="ml-auto text-sm text-faint">read here; change it where it comes from</span>}
          </Tabs.List>
          <Tabs.Content value="text" className="min-h-0 flex-1">
            <Suspense fallback={<Waiting what="the text" />}>
              <ScriptText text={text} findings={own} line={target} />
            </Suspense>
          </Tabs.Content>
          {beside.map((f) => (
            <Tabs.Content key={f.path} value={f.path} className="min-h-0 flex-1">
              <Suspense fallback={<Waiting what="the text" />}>
                <ScriptText
                  text={textOf(f.content)}
                  findings={findings.filter((one) => one.file === f.path)}
                  label={f.path}
                />
              </Suspense>
            </Tabs.Content>
          ))}
          <Tabs.Content value="versions" className="min-h-0 flex-1">
            <Suspense fallback={<Waiting what="its versions" />}>
              <Versions suite={s} />
            </Suspense>
          </Tabs.Content>
        </Tabs.Root>
      </div>
    </div>
  );
}

const textOf = (base64: string) => new TextDecoder().decode(Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)));
