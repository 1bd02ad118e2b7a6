import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { inProject, outdated, post, put, type Run } from "../../data/api";
import { at, lasting, plural } from "../../data/time";
import { MenuItem } from "../../parts/menu";
import { Progress, Trouble } from "../../parts/plain";
import { buildName, remaining, RunVerdict, useClock } from "../../parts/runs";
import { Sure } from "../../parts/sure";
import { Held } from "./legend";

export function Header({ run, open }: { run: Run; open: boolean }) {
  const now = useClock(!run.finished_at);
  const navigate = useNavigate();
  const [trouble, setTrouble] = useState<unknown>();
  const again = (which: string, more: object = {}) =>
    post<Run>(inProject(`runs/${run.number}/again`), { which, real_time: run.real_time, ...more })
      .then((r) => navigate(`/runs/${r.number}`))
      .catch(setTrouble);
  const left = remaining(run, now);
  const bad = run.fails + run.errors;
  const asked: [string, string][] = [
    ["seed", String(run.seed)],
    ["language", run.language],
    ["asked by", run.asked_by],
  ];
  if (run.repeat_failed > 0) asked.push(["failed cases repeat", plural(run.repeat_failed, "time")]);
  return (
    <header className="pb-3">
      <div className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <h1 className="flex items-baseline gap-3">
          Run {run.number}
          <span className="text-lg font-normal" role="status" aria-label="Verdict of the run">
            <RunVerdict r={run} />
          </span>
        </h1>
        <div className="flex items-center gap-2">
          {!run.finished_at && (
            <Sure
              question={`Cancel run ${run.number}?`}
              more="What is decided stays; what is not is left out, and cannot be taken up again."
              does="Cancel it"
              onYes={() => void post<Run>(inProject(`runs/${run.number}/cancel`), {}).catch(setTrouble)}
            >
              <button className="button">Cancel the run</button>
            </Sure>
          )}
          {!open && (
            <>
              <a
                className="button"
                href={inProject(`runs/${run.number}/report.html?save=1`)}
                download={`run-${run.number}.html`}
                title="One page with its pictures within, to hand on or to print"
              >
                Report
              </a>
              <a className="button" href={inProject(`runs/${run.number}/evidence.zip`)} download>
                Evidence
              </a>
              <Link className="button" to={`/runs/${run.number}/summary`}>
                In brief
              </Link>
              <Link
                className="button"
                to={`/runs/${run.number}/pictures`}
                title="A named picture over all combinations"
              >
                Pictures
              </Link>
              <button
                className="button"
                aria-pressed={!!run.pinned_by}
                title={
                  run.pinned_by
                    ? `pinned by ${run.pinned_by}: retention lets nothing of it go`
                    : "have retention let nothing of it go"
                }
                onClick={() =>
                  void put<Run>(inProject(`runs/${run.number}/pin`), { pinned: !run.pinned_by })
                    .then(() => outdated(`runs/${run.number}`))
                    .catch(setTrouble)
                }
              >
                {run.pinned_by ? "Pinned" : "Pin"}
              </button>
            </>
          )}
          <DropdownMenu.Root>
            <DropdownMenu.Trigger className="button">Run again</DropdownMenu.Trigger>
            <DropdownMenu.Portal>
              <DropdownMenu.Content align="end" sideOffset={6} className="card z-50 min-w-64 py-1">
                <MenuItem onSelect={() => void again("all")}>All of it</MenuItem>
                <MenuItem
                  disabled={bad === 0 && !!run.finished_at && run.state !== "cancelled"}
                  onSelect={() => void again("failed")}
                >
                  What did not pass
                </MenuItem>
                <MenuItem onSelect={() => void again("all", { same_seed: true })}>
                  All of it, chance as it fell
                </MenuItem>
                <MenuItem onSelect={() => void again("failed", { real_time: true })}>
                  What did not pass, slowly, to watch
                </MenuItem>
              </DropdownMenu.Content>
            </DropdownMenu.Portal>
          </DropdownMenu.Root>
        </div>
      </div>
      <p className="pt-1 text-soft">
        <Link className="link" to={`/builds/${run.build}?app=${encodeURIComponent(run.app)}`}>
          {buildName(run)}
        </Link>
        {run.started_at ? `, began ${at(run.started_at)}` : `, asked for ${at(run.created_at)}`}
        {run.started_at &&
          run.finished_at &&
          `, took ${lasting(Date.parse(run.finished_at) - Date.parse(run.started_at))}`}
        {!open && asked.map(([k, v]) => `, ${k} ${v}`).join("")}
      </p>
      {!open && run.keep?.run && (
        <p className="text-soft">
          kept of this run alone:{" "}
          <b className="font-medium text-ink">
            {Object.entries(run.keep.run)
              .map(([sort, rule]) => `${sort} ${rule}`)
              .join(", ")}
          </b>
        </p>
      )}
      {run.plan && (
        <p className="text-soft">
          of the plan{" "}
          <Link className="link" to={`/plans/${encodeURIComponent(run.plan)}`}>
            {run.plan}
          </Link>
          , revision {run.plan_revision}
          {run.changed && run.changed.length > 0 && (
            <b className="font-medium text-ink">
              ; other than in the plan, for this run alone: {run.changed.join("; ")}
            </b>
          )}
        </p>
      )}
      {!run.finished_at && (
        <div className="pt-2">
          <Progress done={run.results} of={run.expected} bad={bad} label={`Progress of run ${run.number}`} />
          <p className="pt-1 text-sm text-soft">
            {run.results} of {plural(run.expected, "result")}, {plural(run.open_legs, "leg")} to go{left && `, ${left}`}
          </p>
          <Held run={run.number} />
        </div>
      )}
      {trouble !== undefined && <Trouble of={trouble} />}
    </header>
  );
}
