import { useQuery } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useDeferredValue, useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import {
  inProject,
  outdated,
  post,
  Problem,
  put,
  remove,
  useGet,
  type Plan,
  type PlanTrial,
  type Run,
} from "../data/api";
import { useTitle } from "../data/live";
import { at } from "../data/time";
import { Editor } from "../parts/editor";
import { MenuItem } from "../parts/menu";
import { Heading, Trouble, Waiting } from "../parts/plain";
import { Lately, moment } from "../parts/plans";
import { Sure } from "../parts/sure";
import { Preview } from "./plan/preview";

const example = `plan: New plan
about: what it is for
app: Tideline
build: newest            # newest, arriving, or a version
suites: [Buying a ticket]
factors:
  model: from devices
  language: [en-GB, de-DE]
  appearance: [light, dark]
cover: pairs             # all, each, pairs or triples
budget: {minutes: 60}    # of devices
when:
  cron: "0 2 * * *"
  zone: Europe/Lisbon
`;

/** A plan: its text, and what it comes to now. */
export function PlanPage() {
  const { plan: name } = useParams();
  useTitle(name ?? "New plan");
  const saved = useGet<Plan>(`plans/${encodeURIComponent(name ?? "")}`, {
    enabled: name !== undefined,
    refetchInterval: 5_000,
  });
  if (name === undefined) return <Draft key="" saved={undefined} />;
  if (saved.error && !saved.data)
    return (
      <div className="p-5">
        <Trouble of={saved.error} retry={() => void saved.refetch()} />
      </div>
    );
  if (!saved.data)
    return (
      <div className="p-5">
        <Waiting what="the plan" />
      </div>
    );
  return <Draft key={saved.data.name} saved={saved.data} />;
}

function Draft({ saved }: { saved: Plan | undefined }) {
  const shelf = `yamato.plan.${saved?.name ?? ""}`;
  const [text, setText] = useState(() => sessionStorage.getItem(shelf) ?? saved?.text ?? example);
  const [removing, setRemoving] = useState(false);
  const [trouble, setTrouble] = useState<unknown>();
  const [minutes, setMinutes] = useState<number>(); // tried in place of the budget
  const navigate = useNavigate();
  const changed = text !== (saved?.text ?? "");
  useEffect(() => {
    if (changed) sessionStorage.setItem(shelf, text);
    else sessionStorage.removeItem(shelf);
  }, [shelf, text, changed]);
  const asked = useDeferredValue(text);
  const budget = useDeferredValue(minutes);
  const trial = useQuery<PlanTrial, Problem>({
    queryKey: ["trial", asked, budget],
    queryFn: () =>
      post<PlanTrial>(inProject("plans/trial"), { text: asked, changes: budget ? { minutes: budget } : {} }),
    placeholderData: (b) => b,
    retry: false,
    staleTime: 10_000,
  });
  const full = useQuery<PlanTrial, Problem>({
    queryKey: ["trial", asked, "whole"],
    queryFn: () =>
      post<PlanTrial>(inProject("plans/trial"), {
        text: asked,
        changes: { minutes: 10_000_000, combinations: 100_000 },
      }),
    placeholderData: (b) => b,
    retry: false,
    staleTime: 60_000,
  });
  const act = (what: Promise<unknown>) => void what.then(() => (setTrouble(undefined), outdated("plans")), setTrouble);
  const path = inProject(`plans/${encodeURIComponent(saved?.name ?? "")}`);
  const save = () =>
    void put<Plan>(inProject("plans"), { text }).then((p) => {
      sessionStorage.removeItem(shelf);
      setTrouble(undefined);
      outdated("plans");
      void navigate(`/plans/${encodeURIComponent(p.name)}`, { replace: true });
    }, setTrouble);
  const start = () =>
    void post<Run>(`${path}/runs`, minutes ? { minutes } : {}).then((r) => navigate(`/runs/${r.number}`), setTrouble);
  return (
    <div className="flex h-full flex-col px-5 pt-4">
      <Heading
        title={saved?.name ?? "New plan"}
        about={
          saved && (
            <span className="flex flex-wrap items-center gap-x-3">
              <span>
                {saved.paused ? (
                  <b className="font-medium text-ink">paused</b>
                ) : saved.next ? (
                  `next start ${moment(saved.next)}`
                ) : saved.starts.length > 0 ? (
                  `starts with ${saved.starts.join("; ")}`
                ) : (
                  "starts when somebody starts it"
                )}
              </span>
              <Lately list={saved.late} />
            </span>
          )
        }
      >
        <button className="button button-main" disabled={!changed || !!trial.error} onClick={save}>
          Save
        </button>
        {changed && saved && (
          <button className="button" onClick={() => setText(saved.text)}>
            Back to what is saved
          </button>
        )}
        {saved && !changed && (
          <>
            <button className="button" onClick={start} disabled={!!trial.error}>
              {minutes ? `Start now with ${minutes} minutes` : "Start now"}
            </button>
            <button className="button" onClick={() => act(put(`${path}/state`, { paused: !saved.paused }))}>
              {saved.paused ? "Resume" : "Pause"}
            </button>
            <DropdownMenu.Root>
              <DropdownMenu.Trigger className="button">More</DropdownMenu.Trigger>
              <DropdownMenu.Portal>
                <DropdownMenu.Content align="end" sideOffset={6} className="card z-50 min-w-52 py-1">
                  <MenuItem onSelect={() => void navigate("/calendar")}>See it in the calendar</MenuItem>
                  <MenuItem onSelect={() => setRemoving(true)}>Remove the plan; its runs stay</MenuItem>
                </DropdownMenu.Content>
              </DropdownMenu.Portal>
            </DropdownMenu.Root>
            <Sure
              open={removing}
              onOpenChange={setRemoving}
              question={`Remove the plan ${saved.name}?`}
              more="Its coming starts and its versions go with it; its runs stay."
              needed={{ kind: "plan", name: saved.name }}
              does="Remove it"
              onYes={() =>
                void remove(`${path}?anyway=true`).then(() => (outdated("plans"), navigate("/plans")), setTrouble)
              }
            />
          </>
        )}
      </Heading>
      {saved?.lacks && (
        <p role="status" className="mb-3 border-l-2 border-petrol bg-petrol-wash px-3 py-1.5 text-petrol">
          It could not be started now: {saved.lacks}.
        </p>
      )}
      {trouble !== undefined && <Trouble of={trouble} />}
      <div className="grid min-h-0 flex-1 gap-x-6 pb-4 lg:grid-cols-[minmax(340px,0.8fr)_minmax(0,1.5fr)]">
        <div className="flex min-h-[260px] min-w-0 flex-col">
          <div className="min-h-0 flex-1 overflow-hidden border border-strong bg-sheet">
            <Editor label="The plan's text" text={text} onChange={setText} onSave={() => changed && save()} />
          </div>
          <p className="pt-1 text-sm text-soft">
            {saved ? `revision ${saved.revision}, saved by ${saved.saved_by}, ${at(saved.saved_at)}` : "not saved yet"}
          </p>
          {trial.error && <Trouble of={trial.error} />}
        </div>
        <div className={`flex min-h-0 min-w-0 flex-col ${trial.error ? "opacity-50" : ""}`}>
          {trial.data ? (
            <Preview
              trial={trial.data}
              whole={full.data?.minutes}
              minutes={minutes}
              onMinutes={setMinutes}
              saved={saved}
            />
          ) : (
            !trial.error && <Waiting what="what it comes to" />
          )}
        </div>
      </div>
    </div>
  );
}
