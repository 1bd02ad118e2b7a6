import { useCallback, useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import {
  inProject,
  post,
  useGet,
  type Build,
  type Finding,
  type Fit,
  type Run,
  type RunEvent,
  type Screen,
  type Suite,
  type SuiteFile,
  evidencePath,
  get,
  type Evidence,
} from "../../data/api";
import { followRun, useFleet } from "../../data/live";
import { plural } from "../../data/time";
import { Trouble } from "../../parts/plain";
import { Pick } from "../../parts/start/pick";
import { Shape } from "../../parts/verdict";
import type { Went } from "../../parts/script-editor";

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
export function useTrial(): Trial {
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
export function Beside({ app, apps, setApp, trial, run, faults, findings, builds }: BesideProps) {
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

/** The picture of where a run's one case failed, or the last that it kept. */
async function lastPicture(run: number): Promise<string | undefined> {
  const list = (await get<Evidence[]>(inProject(`runs/${run}/evidence`))).filter((e) => e.sort === "picture");
  const e = list.find((one) => one.name === "failure") ?? list[list.length - 1];
  return e && evidencePath(run, e.id);
}
