import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import {
  evidencePath,
  get,
  inProject,
  outdated,
  post,
  useGet,
  type Build,
  type Evidence,
  type Finding,
  type Fit,
  type Problem,
  type Run,
  type RunEvent,
  type Screen,
  type ScriptLanguage,
  type SeenElement,
  type Suite,
  type SuiteDetail,
  type SuiteFile,
} from "../data/api";
import { followRun, useFleet, useTitle } from "../data/live";
import { at, plural } from "../data/time";
import { Heading, Trouble, Waiting } from "../parts/plain";
import { Pick } from "../parts/start";
import { Shape } from "../parts/verdict";
import type { Went } from "../parts/script-editor";

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

const none: SuiteFile[] = [];
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

type Trial = {
  run?: Run;
  went: Went[];
  verdict?: string;
  sentence?: string;
  device: string;
  setDevice: (d: string) => void;
  build: string;
  setBuild: (b: string) => void;
  picture?: string;
  trouble: unknown;
  start: (what: { text: string; files: SuiteFile[]; line: number; app: string; builds: Build[] }) => Promise<void>;
};

const buildName = (b: Build) => `${b.app}/${b.number}`;

/** One case of the text, run on a device as it stands, told step by step. */
function useTrial(): Trial {
  const [device, setDevice] = useState("");
  const [build, setBuild] = useState("");
  const [run, setRun] = useState<Run>();
  const [went, setWent] = useState<Went[]>([]);
  const [end, setEnd] = useState<{ verdict: string; sentence?: string }>();
  const [picture, setPicture] = useState<string>();
  const [trouble, setTrouble] = useState<unknown>();
  const number = run?.number;
  const on = useRef("");
  const ended = useRef(false);
  const see = useCallback(async (name: string) => {
    try {
      const s = await post<Screen>(inProject(`devices/${encodeURIComponent(name)}/screens`), {});
      if (!ended.current) setPicture(`data:image/png;base64,${s.picture}`); // what comes late shows another app's screen
    } catch {
      // the device may be at work elsewhere by now; what was seen last stays
    }
  }, []);
  useEffect(() => {
    if (number === undefined) return;
    return followRun(number, 0, (_, events: RunEvent[]) => {
      for (const e of events) {
        if (e.kind === "step" && e.step && !e.step.file) {
          const s = e.step;
          setWent((w) => [...w, { line: s.line, verdict: s.verdict, note: s.note }]);
        }
        if (e.kind === "attempt" && e.device) on.current = e.device;
        if (e.kind === "step" && on.current) void see(on.current);
        if (e.kind === "result") ended.current = true;
        if (e.kind === "result") setEnd({ verdict: e.verdict ?? "none", sentence: e.sentence });
        if (e.kind === "run")
          void lastPicture(number).then(
            (p) => p && setPicture(p),
            () => undefined,
          );
      }
    });
  }, [number, see]);
  return {
    run,
    went,
    verdict: end?.verdict,
    sentence: end?.sentence,
    device,
    setDevice,
    build,
    setBuild,
    picture,
    trouble,
    start: async ({ text, files, line, app, builds }) => {
      setTrouble(undefined);
      setEnd(undefined);
      setWent([]);
      setPicture(undefined);
      ended.current = false;
      try {
        const b = builds.find((one) => buildName(one) === build) ?? builds.find((one) => one.app === app);
        const s = await post<Suite>(inProject("suites"), { file_name: "here.yamato", text, files, tried: true });
        setRun(
          await post<Run>(inProject("runs"), {
            build: b ? `#${b.number}` : "",
            app: b?.app,
            suites: [s.digest],
            from_line: line,
            tell_steps: true,
            ...(device ? { on: [device] } : {}),
          }),
        );
      } catch (e) {
        setTrouble(e);
      }
    },
  };
}

/** The picture of where a run's one case failed, or the last that it kept. */
async function lastPicture(run: number): Promise<string | undefined> {
  const list = (await get<Evidence[]>(inProject(`runs/${run}/evidence`))).filter((e) => e.sort === "picture");
  const e = list.find((one) => one.name === "failure") ?? list[list.length - 1];
  return e && evidencePath(run, e.id);
}

type BesideProps = {
  app: string;
  apps: string[];
  setApp: (a: string) => void;
  trial: Trial;
  run: () => void;
  faults: number;
  findings: Finding[];
  builds: Build[];
};

/** The device that a case runs on, and what the check says of files beside the text. */
function Beside({ app, apps, setApp, trial, run, faults, findings, builds }: BesideProps) {
  const fleet = useFleet();
  const ofApp = builds.filter((b) => b.app === app);
  const build = ofApp.find((b) => buildName(b) === trial.build) ?? ofApp[0];
  const fit = useGet<Fit[]>(`builds/${build?.number}/fit`, { enabled: build !== undefined });
  const unfit = new Set((fit.data ?? []).filter((f) => f.reasons.length > 0).map((f) => f.device));
  const devices = [...fleet.values()]
    .filter((d) => ["idle", "leased", "halted"].includes(d.state) && !unfit.has(d.name))
    .sort((a, b) => Number(b.state === "idle") - Number(a.state === "idle") || a.name.localeCompare(b.name))
    .map((d) => d.name);
  const device = devices.includes(trial.device) ? trial.device : (devices[0] ?? "");
  const { setDevice } = trial;
  useEffect(() => {
    if (device && fit.data) setDevice(device);
  }, [device, fit.data, setDevice]);
  const elsewhere = findings.filter((f) => f.file);
  const running = trial.run && !trial.verdict;
  return (
    <section aria-label="A case on a device" className="flex min-h-0 flex-col overflow-auto pb-4">
      <div className="grid grid-cols-[64px_1fr] items-center gap-x-2 gap-y-1.5">
        <span className="text-soft">app</span>
        <Pick label="App" value={app} onChange={setApp} options={apps.map((a) => [a, a])} />
        <span className="text-soft">build</span>
        <Pick
          label="Build"
          value={build ? buildName(build) : ""}
          onChange={trial.setBuild}
          options={ofApp.map((b) => [buildName(b), `${b.version_name} (${b.version_code})`])}
        />
        <span className="text-soft">device</span>
        <Pick label="Device" value={device} onChange={trial.setDevice} options={devices.map((d) => [d, d])} />
      </div>
      <div className="flex items-center gap-2 pt-2.5">
        <button
          className="button"
          disabled={faults > 0 || !app || running}
          onClick={run}
          title={faults > 0 ? "Mend the faults first" : undefined}
        >
          Run the case at the mark <kbd>Ctrl Enter</kbd>
        </button>
        {trial.run && (
          <Link className="link" to={`/runs/${trial.run.number}`}>
            run {trial.run.number}
          </Link>
        )}
      </div>
      {trial.trouble !== undefined && <Trouble of={trial.trouble} />}
      {running && (
        <p className="pt-2 text-soft" role="status">
          {trial.went.length > 0 ? `${plural(trial.went.length, "step")} so far…` : "It waits for the device…"}
        </p>
      )}
      {trial.verdict && (
        <p className="flex items-start gap-2 pt-2" role="status">
          <span className="pt-0.5">
            <Shape of={trial.verdict} />
          </span>
          <span>
            {trial.sentence ||
              (trial.verdict === "pass" ? `It passed, in ${plural(trial.went.length, "step")}.` : trial.verdict)}
          </span>
        </p>
      )}
      {elsewhere.map((f) => (
        <p key={`${f.file} ${f.line} ${f.message}`} className="pt-2 text-sm">
          <span className="font-mono">
            {f.file}, line {f.line}
          </span>
          : {f.message}
        </p>
      ))}
      {trial.picture ? (
        <img
          src={trial.picture}
          alt={`The screen of ${device}`}
          className="mt-3 max-h-[calc(100vh-400px)] min-h-60 self-start rounded outline-1 outline-strong"
        />
      ) : (
        <p className="pt-3 text-soft">
          Put the mark into a case and run it: each line shows how it went, and the device’s screen appears here.
        </p>
      )}
    </section>
  );
}
