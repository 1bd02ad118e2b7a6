import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import {
  inProject,
  outdated,
  post,
  useGet,
  type Build,
  type Finding,
  type Problem,
  type ScriptLanguage,
  type SeenElement,
  type Suite,
  type SuiteDetail,
  type SuiteFile,
} from "../data/api";
import { useTitle } from "../data/live";
import { at, plural } from "../data/time";
import { Heading, Trouble, Waiting } from "../parts/plain";
import { Beside, useTrial } from "./write/trial";

const ScriptEditor = lazy(async () => ({ default: (await import("../parts/script-editor")).ScriptEditor }));

const example = `suite "A new suite"
tags draft
patience 8s

before each
  start app fresh
end

case "what a person does, and then sees"
  expect at least 1 heading
end
`;

/** A suite that is written here: its text, what the check says as one types, and a case of it on a device. */
export function WritePage() {
  const { suite } = useParams();
  const d = useGet<SuiteDetail>(`suites/${encodeURIComponent(suite ?? "")}`, { enabled: !!suite });
  const words = useQuery({
    queryKey: ["language"],
    queryFn: async () => (await import("../parts/language")).theLanguage(),
    staleTime: Infinity,
  });
  useTitle(suite ? `Writing ${suite}` : "A new suite");
  const trouble = d.error ?? words.error;
  if (trouble)
    return (
      <div className="p-5">
        <Trouble of={trouble} retry={() => void (d.error ? d.refetch() : words.refetch())} />
      </div>
    );
  if ((suite && !d.data) || !words.data)
    return (
      <div className="p-5">
        <Waiting what="the editor" />
      </div>
    );
  return <Draft key={suite ?? ""} saved={d.data} words={words.data} />;
}

/** What is written is kept in this browser until it is saved: nothing typed is lost. */
function useShelf(key: string, saved: string) {
  const [text, setText] = useState(() => localStorage.getItem(key) ?? saved);
  useEffect(() => {
    if (text === saved) localStorage.removeItem(key);
    else localStorage.setItem(key, text);
  }, [key, text, saved]);
  return [text, setText] as const;
}

function Draft({ saved, words }: { saved: SuiteDetail | undefined; words: ScriptLanguage }) {
  const navigate = useNavigate();
  const [text, setText] = useShelf(`yamato.suite.${saved?.suite.name ?? ""}`, saved?.text ?? example);
  const [over, setOver] = useState(saved?.suite.revision ?? 0);
  const [trouble, setTrouble] = useState<unknown>();
  const [told, setTold] = useState("");
  const [line, setLine] = useState(1);
  const builds = useGet<{ items: Build[] }>("builds?limit=50");
  const apps = useMemo(() => [...new Set((builds.data?.items ?? []).map((b) => b.app))], [builds.data]);
  const [chosenApp, setApp] = useState("");
  const app = chosenApp || apps[0] || "";
  const seen = useGet<SeenElement[]>(`apps/${encodeURIComponent(app)}/seen`, { enabled: app !== "" });
  const files = saved?.files ?? none;
  const changed = text !== (saved?.text ?? "");
  const foreign = saved !== undefined && saved.suite.origin !== "kept";
  const findings = useFindings(text, files, app);
  const faults = findings.list.filter((f) => !f.advice).length;
  const trial = useTrial();

  const save = async () => {
    setTold("");
    try {
      const s = await post<Suite>(inProject("suites"), {
        file_name: saved?.suite.file_name ?? "here.yamato",
        text,
        files,
        origin: "kept",
        ...(over ? { over } : {}),
      });
      setTrouble(undefined);
      setOver(s.revision);
      outdated("suites");
      setTold(s.fresh === false ? "Nothing had changed." : `Saved as revision ${s.revision}.`);
      if (saved?.suite.name !== s.name) {
        localStorage.removeItem(`yamato.suite.${saved?.suite.name ?? ""}`);
        void navigate(`/write/${encodeURIComponent(s.name)}`, { replace: true });
      }
    } catch (e) {
      setTrouble(e);
    }
  };
  const run = () => void trial.start({ text, files, line, app, builds: builds.data?.items ?? [] });
  return (
    <div className="flex h-full flex-col px-5 pt-5">
      <Heading
        title={saved ? saved.suite.name : "A new suite"}
        about={
          foreign
            ? "Handed in from a folder: try changes here, and keep them there."
            : saved
              ? `Revision ${over || saved.suite.revision}, written here, ${at(saved.suite.created_at)}`
              : "Written and kept here. Its name stands in its first line."
        }
      >
        {saved && (
          <Link className="button" to={`/suites/${encodeURIComponent(saved.suite.name)}`}>
            Its page and versions
          </Link>
        )}
        {saved && changed && (
          <button className="button" onClick={() => setText(saved.text)}>
            Back to what is saved
          </button>
        )}
        <button
          className="button button-main"
          disabled={!changed || faults > 0 || foreign}
          title={
            foreign
              ? "It was handed in from a folder: change it there"
              : faults > 0
                ? "Mend the faults first"
                : "Ctrl S"
          }
          onClick={() => void save()}
        >
          Save
        </button>
      </Heading>
      {trouble !== undefined && <Trouble of={trouble} />}
      <p role="status" className="sr-only">
        {told}
      </p>
      <div className="grid min-h-0 flex-1 gap-x-6 lg:grid-cols-[minmax(0,1.5fr)_minmax(320px,1fr)]">
        <div className="flex min-h-0 flex-col pb-4">
          <div className="min-h-[240px] flex-1 overflow-hidden border border-strong bg-sheet">
            <Suspense fallback={<Waiting what="the editor" />}>
              <ScriptEditor
                text={text}
                language={words}
                seen={seen.data ?? noneSeen}
                findings={findings.list}
                went={trial.went}
                onChange={setText}
                onSave={() => void save()}
                onLine={setLine}
                onRun={run}
              />
            </Suspense>
          </div>
          <p className="flex gap-4 pt-1.5 text-sm text-soft">
            <span>line {line}</span>
            <span>
              {findings.trouble ? "the check does not answer" : faults > 0 ? plural(faults, "fault") : "no faults"}
            </span>
            {findings.list.length > faults && <span>{plural(findings.list.length - faults, "piece")} of advice</span>}
            <span className="ml-auto">{told || (changed ? "not saved; kept in this browser" : "saved")}</span>
          </p>
        </div>
        <Beside
          app={app}
          apps={apps}
          setApp={setApp}
          trial={trial}
          run={run}
          faults={faults}
          findings={findings.list}
          builds={builds.data?.items ?? []}
        />
      </div>
    </div>
  );
}

export const none: SuiteFile[] = [];

const noneSeen: SeenElement[] = [];

/** What the check says, a moment after one has stopped typing. */
function useFindings(text: string, files: SuiteFile[], app: string): { list: Finding[]; trouble: boolean } {
  const [asked, setAsked] = useState(text);
  useEffect(() => {
    const t = setTimeout(() => setAsked(text), 250);
    return () => clearTimeout(t);
  }, [text]);
  const q = useQuery<Finding[], Problem>({
    queryKey: ["check", asked, app],
    queryFn: () => post<Finding[]>(inProject("suites/check"), { text: asked, files, ...(app ? { app } : {}) }),
    placeholderData: (b) => b,
    retry: false,
  });
  return { list: q.data ?? noFindings, trouble: !!q.error };
}

const noFindings: Finding[] = [];
