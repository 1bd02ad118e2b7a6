import { useVirtualizer } from "@tanstack/react-virtual";
import { Slider, Tabs } from "radix-ui";
import { useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { type Plan, type PlanTrial } from "../../data/api";
import { plural } from "../../data/time";
import { Triangle } from "../../parts/triangle";
import { Starts } from "./starts";

type PreviewProps = {
  trial: PlanTrial;
  whole: number | undefined;
  minutes: number | undefined;
  onMinutes: (m: number | undefined) => void;
  saved: Plan | undefined;
};

export function Preview({ trial, whole, minutes, onMinutes, saved }: PreviewProps) {
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
