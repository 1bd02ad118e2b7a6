import { Link, useParams } from "react-router";
import { useGet, type Summary, type Tally } from "../data/api";
import { useTitle } from "../data/live";
import { lasting } from "../data/time";
import { Heading, Section, Trouble, Waiting } from "../parts/plain";
import { buildName } from "../parts/runs";
import { CrashRow } from "./over-time";

/** A run in brief. */
export function SummaryPage() {
  const { run = "" } = useParams();
  const number = Number(run);
  const s = useGet<Summary>(`runs/${number}/summary`, { staleTime: 2000 });
  useTitle(`Run ${number} in brief`);
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title={`Run ${number} in brief`} about={s.data && buildName(s.data.run)}>
        <Link className="button" to={`/runs/${number}`}>
          The run
        </Link>
      </Heading>
      {s.error && <Trouble of={s.error} retry={() => void s.refetch()} />}
      {s.isPending && <Waiting what="the run" />}
      {s.data && (
        <div className="grid grid-cols-2 gap-x-10">
          <Tallies title="By device" list={s.data.devices} />
          <Tallies title="By case" list={s.data.cases} />
          <Section title="What took longest" aside="of the devices’ time">
            <ul>
              {s.data.slowest.map((l) => (
                <li key={`${l.leg} ${l.case_index}`} className="flex gap-3 border-b border-rule py-1">
                  <span className="w-16 flex-none text-right">{lasting(l.took_ms)}</span>
                  <Link
                    className="link min-w-0 flex-1 truncate"
                    to={`/runs/${number}?leg=${l.leg}&case=${l.case_index}&attempt=${l.attempt}`}
                  >
                    {l.case}
                  </Link>
                  <span className="w-52 flex-none truncate text-soft">{l.combination}</span>
                </li>
              ))}
            </ul>
          </Section>
          <div>
            <Section title="Flaky" aside="passed and failed on the same build, in the same combination">
              {s.data.flaky.length === 0 ? (
                <p className="py-1 text-soft">Nothing was.</p>
              ) : (
                s.data.flaky.map((t) => (
                  <p key={t.name} className="border-b border-rule py-1">
                    {t.name}, in {t.flaky}
                  </p>
                ))
              )}
            </Section>
            <Section title="Crashes">
              {s.data.crashes.length === 0 ? (
                <p className="py-1 text-soft">None was met.</p>
              ) : (
                <ul>
                  {s.data.crashes.map((c) => (
                    <CrashRow key={c.id} c={c} />
                  ))}
                </ul>
              )}
            </Section>
          </div>
        </div>
      )}
    </div>
  );
}

const kinds = ["pass", "fail", "error", "skip", "flaky"] as const;

function Tallies({ title, list }: { title: string; list: Tally[] }) {
  return (
    <Section title={title}>
      <table className="w-full">
        <thead>
          <tr className="text-right text-sm text-soft">
            <td />
            {kinds.map((k) => (
              <th key={k} className="w-12 py-1 font-normal">
                {k}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {list.map((t) => (
            <tr key={`${t.suite ?? ""} ${t.name}`} className="border-t border-rule">
              <th scope="row" className="max-w-0 truncate py-1 text-left font-normal" title={t.suite}>
                {t.name}
              </th>
              {kinds.map((k) => (
                <td
                  key={k}
                  className={`text-right ${k === "fail" ? "text-vermilion" : k === "error" ? "text-petrol" : ""}`}
                >
                  {t[k] || ""}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  );
}
