import { Tabs } from "radix-ui";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { inProject, post, useGet, type Run, type Session, type Sheet } from "../data/api";
import { combinationWhole } from "../data/weave";
import { NewFinding } from "./kept";
import { Modal, Trouble, Waiting } from "./plain";
import { Shape } from "./verdict";
import { Attempt } from "./sheet/attempt";

type Props = { run: Run; leg: number; index: number; onClose: () => void };

/** One case in one combination, attempt by attempt, as a sheet on which time runs down. */
export function AttemptSheet({ run, leg, index, onClose }: Props) {
  const sheet = useGet<Sheet>(`runs/${run.number}/legs/${leg}/cases/${index}`, { staleTime: 0 });
  const [params, set] = useSearchParams();
  const navigate = useNavigate();
  const [trouble, setTrouble] = useState<unknown>();
  const [finding, setFinding] = useState(false);
  const s = sheet.data;
  const attempts = s?.attempts ?? [];
  const telling =
    [...attempts].reverse().find((a) => a.result && a.result.verdict !== "pass") ?? attempts[attempts.length - 1];
  const number = Number(params.get("attempt")) || telling?.attempt.number;
  return (
    <aside aria-label="Attempt" className="flex h-full min-w-0 flex-1 flex-col border-l border-strong bg-sheet">
      <header className="flex items-start justify-between gap-4 px-5 pt-4 pb-2">
        <div className="min-w-0">
          <h2 className="text-lg leading-6">{s?.case ?? "…"}</h2>
          {s && (
            <p className="text-soft">
              {s.suite}, on {combinationWhole(s.combination)}, {s.combination.language}
            </p>
          )}
        </div>
        <div className="flex flex-none items-center gap-2">
          <button
            className="button"
            onClick={() =>
              void post<Run>(inProject(`runs/${run.number}/again`), {
                which: "one",
                leg,
                case_index: index,
                real_time: run.real_time,
              })
                .then((r) => navigate(`/runs/${r.number}`))
                .catch(setTrouble)
            }
          >
            Run this again
          </button>
          {telling?.result && ["fail", "error"].includes(telling.result.verdict) && (
            <>
              <button
                className="button"
                onClick={() =>
                  void post<Session>(inProject("sessions"), { again: { run: run.number, leg, case: index } })
                    .then((r) => navigate(`/by-hand/${r.number}`))
                    .catch(setTrouble)
                }
              >
                By hand from there
              </button>
              <button className="button" onClick={() => setFinding(true)}>
                Make a finding
              </button>
            </>
          )}
          <button
            className="button max-lg:hidden"
            aria-pressed={params.has("wide")}
            onClick={() =>
              set(
                (p) => {
                  if (p.has("wide")) p.delete("wide");
                  else p.set("wide", "1");
                  return p;
                },
                { replace: true },
              )
            }
          >
            Wide
          </button>
          <button className="button" onClick={onClose}>
            Close <kbd>Esc</kbd>
          </button>
        </div>
      </header>
      {trouble !== undefined && (
        <div className="px-5">
          <Trouble of={trouble} />
        </div>
      )}
      <Modal
        title="Make a finding"
        about="What should be mended. Build, device, levels, the way there and the end of the log come with it."
        open={finding}
        onClose={() => setFinding(false)}
      >
        {finding && (
          <NewFinding
            from={{ failed: { run: run.number, leg, case: index } }}
            title={telling?.result?.sentence?.replace(/^line \d+: /, "") ?? ""}
          />
        )}
      </Modal>
      {sheet.error && !s && (
        <div className="px-5">
          <Trouble of={sheet.error} retry={() => void sheet.refetch()} />
        </div>
      )}
      {!s && !sheet.error && (
        <div className="px-5">
          <Waiting what="the attempt" />
        </div>
      )}
      {s && attempts.length === 0 && (
        <p className="px-5 py-4 text-soft">It has not been attempted yet. This fills as soon as it is.</p>
      )}
      {s && number !== undefined && attempts.length > 0 && (
        <Tabs.Root
          value={String(number)}
          onValueChange={(v) =>
            set(
              (p) => {
                p.set("attempt", v);
                return p;
              },
              { replace: true },
            )
          }
          className="flex min-h-0 flex-1 flex-col"
        >
          <Tabs.List aria-label="Attempts" className="flex flex-none gap-1 border-b border-strong px-4">
            {attempts.map((a) => (
              <Tabs.Trigger
                key={a.attempt.number}
                value={String(a.attempt.number)}
                className="flex items-center gap-1.5 border-b-2 border-transparent px-1.5 pb-1 text-soft data-[state=active]:border-ink data-[state=active]:text-ink"
              >
                <Shape
                  of={a.result?.verdict ?? (a.attempt.ended ? "error" : "none")}
                  running={!a.attempt.ended && !a.result}
                  silent
                />
                {a.attempt.number > 0 ? `Attempt ${a.attempt.number}` : "No attempt"}
                <span className="text-sm">{a.attempt.device}</span>
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          {attempts.map((a) => (
            <Tabs.Content
              key={a.attempt.number}
              value={String(a.attempt.number)}
              tabIndex={-1}
              className="min-h-0 flex-1"
            >
              <Attempt run={run.number} sheet={s} a={a} />
            </Tabs.Content>
          ))}
        </Tabs.Root>
      )}
    </aside>
  );
}
