import { useState } from "react";
import { Link } from "react-router";
import {
  inProject,
  outdated,
  post,
  put,
  useGet,
  type Checklist,
  type Run,
  type RunDetail,
  type Session,
  type SessionEntry,
} from "../data/api";
import { combinationWhole } from "../data/weave";
import { Command, Trouble } from "./plain";
import { Pick } from "./start/pick";

/** The checklists that this device can be gone through with, and what has been said by everybody so far. */
export function CheckTab({ s, entries }: { s: Session; entries: SessionEntry[] }) {
  const runs = useGet<Run[]>("checklist-runs", { refetchInterval: 4000 });
  const lists = useGet<Checklist[]>("checklists");
  const [run, setRun] = useState("");
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const [writing, setWriting] = useState(false);
  const [trouble, setTrouble] = useState<unknown>();
  const going = (runs.data ?? []).filter((r) => !s.build || s.build === `${r.app} ${r.version_name}`);
  const chosen = going.find((r) => String(r.number) === run) ?? going[0];
  const start = (checklist: string) => {
    setTrouble(undefined);
    const [app, version] = [s.build?.split(" ").slice(0, -1).join(" "), s.build?.split(" ").at(-1)];
    post<Run>(inProject("checklist-runs"), {
      checklist,
      build: version,
      app,
      on: s.device ? [s.device] : [],
      ...(s.language ? { language: s.language } : {}),
    })
      .then((r) => {
        setRun(String(r.number));
        return runs.refetch();
      })
      .catch(setTrouble);
  };
  return (
    <div className="space-y-3 pb-3">
      {going.length > 1 && (
        <Pick
          narrow
          label="Run of a checklist"
          value={String(chosen?.number ?? "")}
          onChange={setRun}
          options={going.map((r): [string, string] => [String(r.number), `run ${r.number}: ${r.checklist}`])}
        />
      )}
      {chosen && <Going key={chosen.number} s={s} run={chosen.number} entries={entries} />}
      {!chosen && (
        <p className="text-sm text-soft">
          {s.build
            ? "Nobody goes through a checklist for this build now."
            : "A checklist is gone through for a build: install one first."}
        </p>
      )}
      {s.build && (lists.data?.length ?? 0) > 0 && (
        <div className="flex flex-wrap items-center gap-1.5">
          <Pick
            narrow
            label="Checklist"
            value={name}
            onChange={setName}
            options={[
              ["", "go through…"],
              ...(lists.data ?? []).map((l): [string, string] => [l.name, `${l.name}, ${l.items.length} things`]),
            ]}
          />
          <button className="button h-7" disabled={!name} onClick={() => start(name)}>
            Begin
          </button>
        </div>
      )}
      {writing ? (
        <form
          className="space-y-1.5"
          onSubmit={(e) => {
            e.preventDefault();
            put<Checklist>(inProject("checklists"), { text })
              .then((l) => {
                setName(l.name);
                setWriting(false);
                setTrouble(undefined);
                return lists.refetch();
              })
              .catch(setTrouble);
          }}
        >
          <textarea
            aria-label="Checklist, as Markdown"
            className="field h-36 w-full py-1 font-mono"
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder={
              "# Before each release\n\n## Tickets\n- [ ] The total is under the fares\n- [ ] Paying twice is not possible"
            }
          />
          <button className="button" disabled={!text.trim()}>
            Keep the checklist
          </button>
        </form>
      ) : (
        <p className="text-sm text-soft">
          <button
            className="link"
            onClick={() => {
              setText(lists.data?.find((l) => l.name === name)?.text ?? "");
              setWriting(true);
            }}
          >
            {name ? "Change that checklist" : "Write a checklist"}
          </button>
          , or <Command>yamato checklist save FILE</Command>
        </p>
      )}
      {trouble !== undefined && <Trouble of={trouble} />}
    </div>
  );
}

function Going({ s, run, entries }: { s: Session; run: number; entries: SessionEntry[] }) {
  const detail = useGet<RunDetail>(`runs/${run}`, { refetchInterval: 2000 });
  const [note, setNote] = useState<Record<number, string>>({});
  const [shown, setShown] = useState<Record<number, boolean>>({}); // whether the newest picture goes with it
  const [trouble, setTrouble] = useState<unknown>();
  const d = detail.data;
  if (!d) return null;
  const mine = d.legs.filter(
    (l) => l.combination.model === s.model && l.combination.os === s.os && l.combination.kind === s.kind,
  );
  const leg = mine[0];
  const picture = [...entries].reverse().find((e) => e.kind === "picture");
  if (!leg)
    return (
      <p className="text-sm text-soft">
        <Link className="link" to={`/runs/${run}`}>
          Run {run}
        </Link>{" "}
        goes through “{d.run.checklist}” on {d.legs.map((l) => combinationWhole(l.combination)).join("; ")}, and not on
        this kind of device.
      </p>
    );
  const left = leg.cases.filter((c) => c.verdict === "none").length;
  const mark = (index: number, verdict: string) => {
    setTrouble(undefined);
    const evidence = picture && shown[index] ? { session: s.number, lease: picture.lease, seq: picture.seq } : {};
    put<void>(inProject(`runs/${run}/legs/${leg.id}/cases/${index}/verdict`), {
      verdict,
      note: note[index] ?? "",
      ...evidence,
    })
      .then(() => outdated(`runs/${run}`, "checklist-runs"))
      .catch(setTrouble);
  };
  return (
    <div>
      <p className="font-medium">
        {d.run.checklist}{" "}
        <Link className="link text-sm font-normal" to={`/runs/${run}`}>
          run {run}
        </Link>
      </p>
      <p className="pb-1 text-sm text-soft">
        {left === 0 ? "Everything has been looked at here." : `${left} of ${leg.cases.length} left here`};{" "}
        {d.run.results} of {d.run.expected} on all combinations
      </p>
      {trouble !== undefined && <Trouble of={trouble} />}
      <ol>
        {leg.cases.map((c) => {
          const last = c.results[c.results.length - 1];
          const said = last?.steps?.[0];
          return (
            <li key={c.index} className="border-b border-rule py-1.5">
              <p className="flex items-baseline gap-2">
                <span className={`verdict verdict-${c.verdict} self-center`} aria-hidden="true" />
                <span className="min-w-0 flex-1 break-words">{c.name}</span>
              </p>
              {said && (
                <p className="pl-4 text-sm text-soft">
                  {c.verdict}, {said.text}
                  {said.note && `: ${said.note}`}
                </p>
              )}
              {leg.state === "running" && (
                <div className="flex items-center gap-1.5 pt-1 pl-4">
                  {["pass", "fail", "skip"].map((v) => (
                    <button
                      key={v}
                      className="button h-6 px-2"
                      aria-pressed={c.verdict === v}
                      aria-label={`${v}: ${c.name}`}
                      onClick={() => mark(c.index, v)}
                    >
                      {v}
                    </button>
                  ))}
                  <input
                    aria-label={`Note: ${c.name}`}
                    className="field h-6 min-w-0 flex-1"
                    placeholder="note; a skip says why"
                    maxLength={2000}
                    value={note[c.index] ?? ""}
                    onChange={(e) => setNote({ ...note, [c.index]: e.target.value })}
                  />
                  {picture && (
                    <label
                      className="flex flex-none items-center gap-1 text-sm"
                      title={`The picture “${picture.text}” goes with it`}
                    >
                      <input
                        type="checkbox"
                        checked={!!shown[c.index]}
                        onChange={(e) => setShown({ ...shown, [c.index]: e.target.checked })}
                      />{" "}
                      picture
                    </label>
                  )}
                </div>
              )}
            </li>
          );
        })}
      </ol>
    </div>
  );
}
