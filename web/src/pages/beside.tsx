import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import {
  evidencePath,
  framePath,
  useGet,
  type Evidence,
  type RunDetail,
  type Sheet,
  type SheetAttempt,
} from "../data/api";
import { align, differences, differs, type Difference } from "../data/beside";
import { amount } from "../data/readings";
import { lasting, seconds } from "../data/time";
import { combinationWhole } from "../data/weave";
import { Empty, Heading, Section, Trouble, Waiting } from "../parts/plain";
import { Pick } from "../parts/start/pick";
import { Shape, VerdictWord } from "../parts/verdict";

type Place = { run: number; leg: number; index: number; attempt: number };

const read = (text: string | null): Place | undefined => {
  const n = (text ?? "").split(".").map(Number);
  return n.length === 4 && n.every((x) => Number.isInteger(x) && x >= 0)
    ? { run: n[0]!, leg: n[1]!, index: n[2]!, attempt: n[3]! }
    : undefined;
};
const write = (p: Place) => `${p.run}.${p.leg}.${p.index}.${p.attempt}`;

/** Two attempts side by side: circumstances that differ, then the steps, aligned. */
export function BesidePage() {
  const [params, set] = useSearchParams();
  const a = read(params.get("a"));
  const b = read(params.get("b"));
  const put = (name: string, value: string) => set((p) => (p.set(name, value), p), { replace: true });
  const left = useSheet(a);
  const right = useSheet(b);
  if (!a)
    return (
      <div className="px-5 py-5">
        <Heading title="Side by side" />
        <Empty title="No attempt is named.">
          <p>Open a case of a run, and choose “Lay another beside it” there.</p>
        </Empty>
      </div>
    );
  return (
    <div className="px-5 py-5">
      <Heading
        title={left.data?.case ?? "Side by side"}
        about={left.data && `${left.data.suite}: two attempts, aligned by their steps`}
      />
      {left.error && <Trouble of={left.error} />}
      {right.error && <Trouble of={right.error} />}
      <div className="grid grid-cols-2 gap-x-6 pb-4">
        <Side title="Left" place={a} sheet={left.data} onAttempt={(n) => put("a", write({ ...a, attempt: n }))} />
        {b && right.data ? (
          <Side
            title="Right"
            place={b}
            sheet={right.data}
            onAttempt={(n) => put("b", write({ ...b, attempt: n }))}
            other={left.data && <Choose a={a} sheet={left.data} chosen={b} onChoose={(p) => put("b", write(p))} />}
          />
        ) : left.data ? (
          <Choose a={a} sheet={left.data} onChoose={(p) => put("b", write(p))} />
        ) : (
          <Waiting what="the attempt" />
        )}
      </div>
      {left.data && right.data && b && <Compared a={a} b={b} left={left.data} right={right.data} />}
    </div>
  );
}

function useSheet(p?: Place) {
  return useGet<Sheet>(p ? `runs/${p.run}/legs/${p.leg}/cases/${p.index}` : "", { enabled: !!p, staleTime: 5000 });
}

const attemptOf = (s: Sheet, p: Place): SheetAttempt | undefined =>
  s.attempts.find((x) => x.attempt.number === p.attempt) ?? s.attempts[s.attempts.length - 1];

function Side({
  title,
  place,
  sheet,
  onAttempt,
  other,
}: {
  title: string;
  place: Place;
  sheet?: Sheet;
  onAttempt: (n: number) => void;
  other?: React.ReactNode;
}) {
  if (!sheet) return <Waiting what="the attempt" />;
  const x = attemptOf(sheet, place);
  return (
    <section aria-label={title}>
      <h2 className="flex items-center gap-2">
        <VerdictWord of={x?.result?.verdict ?? "none"} /> on {combinationWhole(sheet.combination)}
      </h2>
      <p className="text-soft">
        <Link className="link" to={`/runs/${place.run}?leg=${place.leg}&case=${place.index}&attempt=${place.attempt}`}>
          run {place.run}
        </Link>
        , {x?.attempt.device}, {x?.result ? `took ${lasting(x.result.took_ms)}` : "not judged"}
      </p>
      <div className="flex gap-2 pt-1">
        {!other && sheet.attempts.length > 1 && (
          <Pick
            narrow
            label={`Attempt, ${title.toLowerCase()}`}
            value={String(x?.attempt.number ?? "")}
            onChange={(v) => onAttempt(Number(v))}
            options={sheet.attempts.map((o): [string, string] => [
              String(o.attempt.number),
              `attempt ${o.attempt.number}, ${o.result?.verdict ?? "not judged"}`,
            ])}
          />
        )}
        {other}
      </div>
    </section>
  );
}

/** What can be laid beside an attempt: the same case elsewhere in its run, or its own other attempts. */
function Choose({
  a,
  sheet,
  chosen,
  onChoose,
}: {
  a: Place;
  sheet: Sheet;
  chosen?: Place;
  onChoose: (p: Place) => void;
}) {
  const detail = useGet<RunDetail>(`runs/${a.run}?brief=true`, { staleTime: 5000 });
  const options = useMemo(() => {
    const out: [string, string][] = sheet.attempts
      .filter((x) => x.attempt.number !== a.attempt)
      .map((x) => [
        write({ ...a, attempt: x.attempt.number }),
        `attempt ${x.attempt.number} here: ${x.result?.verdict ?? "not judged"}`,
      ]);
    for (const l of detail.data?.legs ?? []) {
      if (l.id === a.leg || l.suite !== sheet.suite) continue;
      const x = l.cases.find((c) => c.name === sheet.case);
      const last = x?.results?.[x.results.length - 1];
      if (x && last)
        out.push([
          write({ run: a.run, leg: l.id, index: x.index, attempt: last.attempt }),
          `${x.verdict} on ${combinationWhole(l.combination)}`,
        ]);
    }
    return out.sort((p, q) => Number(q[1].startsWith("pass")) - Number(p[1].startsWith("pass")));
  }, [detail.data, sheet, a]);
  if (detail.isPending) return <Waiting what="what could lie beside it" />;
  if (options.length === 0)
    return <p className="text-soft">There is nothing to lay beside it: the case ran once, in one combination.</p>;
  return (
    <Pick
      narrow={!!chosen}
      label="Beside it"
      value={chosen ? write(chosen) : ""}
      onChange={(v) => onChoose(read(v)!)}
      options={chosen ? options : [["", "choose what lies beside it"], ...options]}
    />
  );
}

type Sum = { name: string; unit?: string; median: number; largest: number };
const sumsOf = (x: SheetAttempt, index: number): Sum[] =>
  (x.evidence.find((e) => e.sort === "readings" && e.case_index === index)?.facts as { sums?: Sum[] } | undefined)
    ?.sums ?? [];

function Compared({ a, b, left, right }: { a: Place; b: Place; left: Sheet; right: Sheet }) {
  const x = attemptOf(left, a);
  const y = attemptOf(right, b);
  const one = useMemo(() => x?.result?.steps ?? [], [x]);
  const two = useMemo(() => y?.result?.steps ?? [], [y]);
  const pairs = useMemo(() => align(one, two), [one, two]);
  const other = useMemo(
    () =>
      differences(
        { ...x?.circumstances, levels: left.combination.levels },
        { ...y?.circumstances, levels: right.combination.levels },
      ),
    [x, y, left, right],
  );
  const first = pairs.findIndex((p) => differs(p, one, two) !== "");
  const [at, setAt] = useState<number>();
  const here = at ?? Math.max(0, first);
  if (!x || !y) return null;
  const figures = sumsOf(x, a.index).flatMap((s) =>
    sumsOf(y, b.index)
      .filter((t) => t.name === s.name)
      .map((t) => [s, t] as const),
  );
  const pair = pairs[here];
  const moment = (s: { at_ms: number; took_ms: number } | undefined) => (s ? s.at_ms + s.took_ms : 0);
  return (
    <>
      <Section
        title="What differs around them"
        aside={other.length === 0 ? "the circumstances are the same" : undefined}
      >
        <Differing list={other.slice(0, few)} />
        {other.length > few && (
          <details className="pt-1">
            <summary className="text-sm">{other.length - few} more</summary>
            <Differing list={other.slice(few)} />
          </details>
        )}
        {figures.length > 0 && (
          <details className="pt-1">
            <summary className="text-sm">What the app took: median and largest</summary>
            <Differing
              list={figures.map(([s, t]) => ({
                name: s.name,
                a: `${amount(s.median, s.unit ?? "")}, ${amount(s.largest, s.unit ?? "")}`,
                b: `${amount(t.median, t.unit ?? "")}, ${amount(t.largest, t.unit ?? "")}`,
              }))}
            />
          </details>
        )}
      </Section>
      <Section
        title="Steps"
        aside={
          first < 0
            ? "all the same"
            : `the first that differs is step ${first + 1}: ${differs(pairs[first]!, one, two)}`
        }
      >
        <div className="flex gap-4 pt-2">
          <div
            className="min-w-0 flex-1"
            role="listbox"
            aria-label="Steps, aligned"
            tabIndex={0}
            onKeyDown={(e) =>
              (e.key === "ArrowDown" || e.key === "ArrowUp") &&
              (e.preventDefault(),
              setAt(Math.max(0, Math.min(pairs.length - 1, here + (e.key === "ArrowDown" ? 1 : -1)))))
            }
          >
            {pairs.map((p, i) => {
              const why = differs(p, one, two);
              const cell = (s?: (typeof one)[number]) => (
                <span className="flex min-w-0 items-center gap-2">
                  {s ? (
                    <>
                      <span className="w-12 flex-none text-right font-mono text-sm text-faint">{seconds(s.at_ms)}</span>
                      <Shape of={s.verdict} />
                      <span className="truncate font-mono text-sm">{s.text}</span>
                      {s.took_ms >= 500 && (
                        <span className="ml-auto flex-none text-sm text-faint">{lasting(s.took_ms)}</span>
                      )}
                    </>
                  ) : (
                    <span className="pl-16 text-sm text-faint">no such step</span>
                  )}
                </span>
              );
              return (
                <div
                  key={i}
                  role="option"
                  aria-selected={i === here}
                  onMouseEnter={() => setAt(i)}
                  onClick={() => setAt(i)}
                  className={`grid h-6 grid-cols-2 items-center gap-x-6 ${why ? "bg-vermilion-wash" : i === here ? "bg-wash" : ""}`}
                  title={why || undefined}
                >
                  {cell(p.a === undefined ? undefined : one[p.a])}
                  {cell(p.b === undefined ? undefined : two[p.b])}
                </div>
              );
            })}
          </div>
          <div className="sticky top-2 flex flex-none gap-3 self-start">
            <Then
              run={a.run}
              x={x}
              index={a.index}
              ms={moment(pair?.a === undefined ? undefined : one[pair.a])}
              side="left"
            />
            <Then
              run={b.run}
              x={y}
              index={b.index}
              ms={moment(pair?.b === undefined ? undefined : two[pair.b])}
              side="right"
            />
          </div>
        </div>
      </Section>
    </>
  );
}

/** How many differences stand open. */
const few = 6;

function Differing({ list }: { list: Difference[] }) {
  return (
    <table className="w-full">
      <tbody>
        {list.map((d) => (
          <tr key={d.name} className="border-b border-rule align-top">
            <th scope="row" className="w-40 py-1 text-left font-normal text-soft">
              {d.name}
            </th>
            <td className="w-[43%] py-1 pr-4 break-words">{d.a || "–"}</td>
            <td className="py-1 break-words">{d.b || "–"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The screen of one side at a moment. */
function Then({ run, x, index, ms, side }: { run: number; x: SheetAttempt; index: number; ms: number; side: string }) {
  let nearest = -1;
  for (let i = 0; i < x.frames.length; i++) if (x.frames[i]!.at_ms <= ms + 1) nearest = i;
  const frame = x.frames[Math.max(0, nearest)];
  const failure: Evidence | undefined = x.evidence.find(
    (e) => e.sort === "picture" && e.name === "failure" && e.case_index === index && !e.gone,
  );
  const f = x.result?.failure as { at_ms?: number } | undefined;
  const src =
    failure && f && ms >= (f.at_ms ?? Infinity) - 1
      ? evidencePath(run, failure.id)
      : frame
        ? framePath(run, frame)
        : failure
          ? evidencePath(run, failure.id)
          : "";
  return (
    <figure className="w-[170px] max-sm:w-[146px]">
      {src ? (
        <img
          src={src}
          alt={`The screen on the ${side} at ${seconds(ms)} s`}
          className="max-h-[380px] w-full rounded border border-rule object-contain object-top"
        />
      ) : (
        <p className="text-sm text-soft">no picture was kept</p>
      )}
      <figcaption className="pt-1 text-sm text-soft">
        {side}, {seconds(ms)} s
      </figcaption>
    </figure>
  );
}
