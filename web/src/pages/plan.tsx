import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { DropdownMenu, Slider, Tabs } from "radix-ui";
import { useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import {
  inProject,
  outdated,
  post,
  Problem,
  put,
  remove,
  useGet,
  type Plan,
  type PlanRevision,
  type PlanStart,
  type PlanTrial,
  type Run,
} from "../data/api";
import { useTitle } from "../data/live";
import { at, plural } from "../data/time";
import { Editor } from "../parts/editor";
import { MenuItem } from "../parts/frame";
import { Heading, Trouble, Waiting } from "../parts/plain";
import { Lately, moment, reasonWords, StartShape, startWords } from "../parts/plans";
import { Triangle } from "../parts/triangle";
import { Sure } from "../parts/sure";

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

type PreviewProps = {
  trial: PlanTrial;
  whole: number | undefined;
  minutes: number | undefined;
  onMinutes: (m: number | undefined) => void;
  saved: Plan | undefined;
};

function Preview({ trial, whole, minutes, onMinutes, saved }: PreviewProps) {
  const [params, set] = useSearchParams();
  const tab = params.get("show") ?? "combinations";
  const pairs = trial.coverage.find((c) => c.strength === 2) ?? trial.coverage[0];
  const share = pairs && pairs.possible > 0 ? Math.floor((100 * pairs.covered) / pairs.possible) : 100;
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1 border-b border-strong pb-1">
        <span>
          <b className="text-lg font-semibold">{trial.chosen.toLocaleString()}</b> of {trial.all.toLocaleString()}{" "}
          combinations
        </span>
        <span>
          <b className="text-lg font-semibold">
            {trial.minutes < 100 ? trial.minutes.toFixed(1) : Math.round(trial.minutes)}
          </b>{" "}
          device-minutes
        </span>
        <span>
          <b className={`text-lg font-semibold ${share < 100 ? "text-vermilion" : ""}`}>{share} %</b> of pairs
        </span>
        <span className="text-soft">
          {plural(trial.legs, "leg")}, {plural(trial.cases, "case")}, on {trial.app} {trial.version_name} (
          {trial.version_code})
        </span>
      </div>
      {whole !== undefined && whole > 1 && (
        <Budget whole={whole} spent={trial.minutes} minutes={minutes} onMinutes={onMinutes} />
      )}
      {trial.findings.length > 0 && (
        <ul className="pt-1" aria-label="Findings">
          {trial.findings.map((f) => (
            <li key={f} className="flex gap-2 text-soft">
              <span aria-hidden="true">·</span>
              {f}
            </li>
          ))}
        </ul>
      )}
      <Tabs.Root
        value={tab}
        onValueChange={(v) =>
          set(
            (p) => {
              p.set("show", v);
              return p;
            },
            { replace: true },
          )
        }
        className="flex min-h-0 flex-1 flex-col pt-2"
      >
        <Tabs.List aria-label="What it comes to" className="flex flex-none gap-1 border-b border-rule">
          {[
            ["combinations", "Combinations"],
            ["coverage", "Coverage"],
            ["out", `Left out${trial.left_out.length ? ` (${trial.left_out.length})` : ""}`],
            ["starts", "Starts"],
          ].map(([key, words]) => (
            <Tabs.Trigger
              key={key}
              value={key!}
              className="border-b-2 border-transparent px-2 pb-1 text-soft data-[state=active]:border-ink data-[state=active]:font-medium data-[state=active]:text-ink"
            >
              {words}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <Tabs.Content value="combinations" className="min-h-0 flex-1">
          <Combinations trial={trial} />
        </Tabs.Content>
        <Tabs.Content value="coverage" className="min-h-0 flex-1 overflow-auto">
          <Triangle trial={trial} />
          <p className="pt-4 text-soft">
            {trial.coverage
              .map(
                (c) =>
                  `${["", "levels", "pairs", "triples"][c.strength]}: ${c.covered.toLocaleString()} of ${c.possible.toLocaleString()}${c.forbidden ? ` (${c.forbidden.toLocaleString()} cannot be)` : ""}`,
              )
              .join("; ")}
          </p>
        </Tabs.Content>
        <Tabs.Content value="out" className="min-h-0 flex-1 overflow-auto">
          {trial.left_out.length === 0 && <p className="py-2 text-soft">Nothing is left out.</p>}
          {trial.left_out.map((l, i) => (
            <div key={i} className="border-b border-rule py-1">
              {l.combination.label}
              {l.reasons.map((r) => (
                <span key={r.why} className="block text-sm text-soft">
                  {r.why}
                  {r.remedy && `: ${r.remedy}`}
                </span>
              ))}
            </div>
          ))}
        </Tabs.Content>
        <Tabs.Content value="starts" className="min-h-0 flex-1 overflow-auto">
          <Starts trial={trial} saved={saved} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

function Budget({
  whole,
  spent,
  minutes,
  onMinutes,
}: {
  whole: number;
  spent: number;
  minutes: number | undefined;
  onMinutes: (m: number | undefined) => void;
}) {
  const most = Math.max(1, Math.ceil(whole));
  const [held, hold] = useState<number>(); // while it is dragged
  const value = held ?? minutes ?? Math.min(most, Math.ceil(spent));
  return (
    <div className="flex items-center gap-3 pt-2">
      <span className="flex-none text-sm text-soft">Budget</span>
      <Slider.Root
        className="relative flex h-5 w-[min(320px,40vw)] touch-none items-center select-none"
        min={1}
        max={most}
        step={1}
        value={[Math.min(value, most)]}
        onValueChange={([v]) => hold(v)}
        onValueCommit={([v]) => {
          hold(undefined);
          onMinutes(v === most ? undefined : v);
        }}
      >
        <Slider.Track className="relative h-[5px] flex-1 rounded-full bg-wash">
          <Slider.Range className="absolute h-full rounded-full bg-ink" />
        </Slider.Track>
        <Slider.Thumb
          aria-label="Device-minutes at most"
          aria-valuetext={`${value} device-minutes`}
          className="block size-4 rounded-full border-2 border-ink bg-sheet"
        />
      </Slider.Root>
      <span className="text-sm whitespace-nowrap">
        {value} of {most} device-minutes
      </span>
      {minutes !== undefined && (
        <button className="link text-sm text-soft" onClick={() => onMinutes(undefined)}>
          as the plan says
        </button>
      )}
    </div>
  );
}

/** The combinations, sorted by a column and narrowed by words; thousands scroll. */
function Combinations({ trial }: { trial: PlanTrial }) {
  const [params, set] = useSearchParams();
  const [words, setWords] = useState(params.get("find") ?? "");
  const sort = Number(params.get("sort") ?? "-1");
  const down = params.get("down") !== null;
  const box = useRef<HTMLDivElement>(null);
  const rows = useMemo(() => {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    const list = trial.combinations
      .map((c, i) => ({ ...c, place: i + 1 }))
      .filter((c) => wanted.every((w) => c.levels.some((l) => l.toLowerCase().includes(w))));
    if (sort >= 0)
      list.sort(
        (a, b) =>
          (down ? -1 : 1) * (a.levels[sort] ?? "").localeCompare(b.levels[sort] ?? "", undefined, { numeric: true }),
      );
    return list;
  }, [trial, words, sort, down]);
  const v = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => 25,
    overscan: 12,
  });
  const order = (i: number) =>
    set(
      (p) => {
        p.set("sort", String(i));
        if (sort === i && !down) p.set("down", "");
        else p.delete("down");
        return p;
      },
      { replace: true },
    );
  const columns = `34px repeat(${trial.factors.length}, minmax(64px, 1fr)) 62px 44px 56px`;
  return (
    <div className="flex h-full flex-col">
      <div className="flex items-center gap-3 py-2">
        <input
          type="search"
          aria-label="Narrow the combinations"
          placeholder="Narrow: de-DE landscape"
          className="field w-56"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        {words && <span className="text-sm text-soft">{plural(rows.length, "combination")}</span>}
        {trial.chosen > trial.combinations.length && (
          <span className="text-sm text-soft">the first {trial.combinations.length.toLocaleString()} are listed</span>
        )}
      </div>
      <div
        ref={box}
        className="min-h-0 flex-1 overflow-auto"
        role="table"
        aria-label="Combinations"
        aria-rowcount={rows.length + 1}
        tabIndex={0}
      >
        <div
          role="row"
          className="sticky top-0 z-10 grid border-b border-strong bg-paper text-sm text-soft"
          style={{ gridTemplateColumns: columns }}
        >
          <span role="columnheader" className="py-1">
            #
          </span>
          {trial.factors.map((f, i) => (
            <span
              key={f.name}
              role="columnheader"
              aria-sort={sort === i ? (down ? "descending" : "ascending") : "none"}
            >
              <button className="py-1 pr-2 text-left hover:text-ink" onClick={() => order(i)}>
                {f.name} <span aria-hidden="true">{sort === i ? (down ? "↓" : "↑") : ""}</span>
              </button>
            </span>
          ))}
          <span role="columnheader" className="py-1 text-right">
            devices
          </span>
          <span role="columnheader" className="py-1 text-right">
            legs
          </span>
          <span role="columnheader" className="py-1 text-right">
            minutes
          </span>
        </div>
        <div style={{ height: v.getTotalSize() }} className="relative" role="rowgroup">
          {v.getVirtualItems().map((item) => {
            const c = rows[item.index]!;
            return (
              <div
                key={c.place}
                role="row"
                aria-rowindex={item.index + 2}
                className="absolute grid w-full items-center border-b border-rule hover:bg-wash"
                style={{ top: item.start, height: 25, gridTemplateColumns: columns }}
              >
                <span role="cell" className="text-sm text-faint" title={c.must ? "the plan names it" : undefined}>
                  {c.place}
                  {c.must && "*"}
                </span>
                {c.levels.map((l, i) => (
                  <span key={i} role="cell" className="truncate pr-2" title={l}>
                    {l}
                  </span>
                ))}
                <span role="cell" className="text-right">
                  {c.devices}
                </span>
                <span role="cell" className="text-right">
                  {c.legs}
                </span>
                <span role="cell" className="text-right">
                  {c.minutes.toFixed(1)}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

function Starts({ trial, saved }: { trial: PlanTrial; saved: Plan | undefined }) {
  const path = `plans/${encodeURIComponent(saved?.name ?? "")}`;
  const history = useGet<{ items: PlanStart[]; next?: number }>(`${path}/history?limit=100`, {
    enabled: !!saved,
    refetchInterval: 5_000,
  });
  const revisions = useGet<PlanRevision[]>(`${path}/revisions`, { enabled: !!saved });
  const [shown, show] = useState<PlanRevision>();
  return (
    <div className="grid gap-x-8 gap-y-4 pt-2 xl:grid-cols-2">
      <div>
        <h2 className="pb-1">Comes next</h2>
        {trial.starts.map((s) => (
          <p key={s} className="text-soft">
            {s}
          </p>
        ))}
        {trial.next.map((n) => (
          <p key={n}>{moment(n)}</p>
        ))}
        {trial.starts.length === 0 && <p className="text-soft">It starts when somebody starts it.</p>}
        {revisions.data && revisions.data.length > 0 && (
          <>
            <h2 className="pt-4 pb-1">Revisions</h2>
            {revisions.data.slice(0, 20).map((r) => (
              <p key={r.revision}>
                <button
                  className="link"
                  aria-expanded={shown?.revision === r.revision}
                  onClick={() => show(shown?.revision === r.revision ? undefined : r)}
                >
                  revision {r.revision}
                </button>
                <span className="text-soft">
                  , {r.saved_by}, {at(r.saved_at)}
                </span>
              </p>
            ))}
            {shown && (
              <pre
                className="mt-1 max-h-64 overflow-auto border border-rule bg-sheet p-2 font-mono text-sm"
                tabIndex={0}
              >
                {shown.text}
              </pre>
            )}
          </>
        )}
      </div>
      <div>
        <h2 className="pb-1">What came of it</h2>
        {history.data?.items.length === 0 && <p className="text-soft">Nothing has started it yet.</p>}
        {history.data?.items.map((s) => (
          <div
            key={s.id}
            className="grid grid-cols-[20px_130px_minmax(0,1fr)] items-baseline gap-x-2 border-b border-rule py-0.5"
          >
            <StartShape s={s} />
            <span>{moment(s.due)}</span>
            <span className="min-w-0">
              {s.run !== undefined ? (
                <Link className="link" to={`/runs/${s.run}`}>
                  run {s.run}
                </Link>
              ) : null}
              {s.run !== undefined && ", "}
              {startWords(s)}
              <span className="block text-sm text-soft">
                {reasonWords[s.reason]}
                {s.reason === "hand" && `, ${s.asked_by}`}
                {s.changed.length > 0 && `; other than in the plan: ${s.changed.join("; ")}`}
                {s.run !== undefined && s.told && `; ${s.told}`}
              </span>
            </span>
          </div>
        ))}
      </div>
    </div>
  );
}
