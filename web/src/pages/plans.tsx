import { useEffect } from "react";
import { Link, useNavigate } from "react-router";
import { outdated, useGet, type Plan } from "../data/api";
import { useRuns } from "../data/live";
import { Command, Empty, Heading, Trouble, Waiting } from "../parts/plain";
import { Lately, moment, startWords } from "../parts/plans";

/** Saved recipes: what starts them, when next, and how they went. */
export function PlansPage() {
  const navigate = useNavigate();
  const list = useGet<Plan[]>("plans", { refetchInterval: 5_000 });
  const runs = useRuns();
  useEffect(() => outdated("plans"), [runs]);
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading
        title="Plans"
        about="A plan says once which builds, which suites, in which combinations, and when. It starts by itself."
      >
        <Link className="button" to="/calendar">
          Calendar
        </Link>
        <button className="button button-main" onClick={() => void navigate("/new-plan")}>
          New plan
        </button>
      </Heading>
      {list.isPending && <Waiting what="plans" />}
      {list.error && <Trouble of={list.error} retry={() => void list.refetch()} />}
      {list.data?.length === 0 && (
        <Empty title="No plans yet.">
          <p>
            <Link className="link" to="/new-plan">
              Write one here
            </Link>
            , or keep a file with <Command>yamato plan save FILE</Command>
          </p>
        </Empty>
      )}
      {list.data && list.data.length > 0 && (
        <table className="w-full">
          <thead className="border-b border-strong text-left text-sm text-soft">
            <tr>
              <th className="py-1 pr-4 font-normal">Plan</th>
              <th className="pr-4 font-normal">Starts</th>
              <th className="pr-4 font-normal">Next</th>
              <th className="pr-4 font-normal">Lately</th>
              <th className="font-normal">Last</th>
            </tr>
          </thead>
          <tbody>
            {list.data.map((p) => (
              <tr key={p.name} className="border-b border-rule align-top hover:bg-wash">
                <td className="py-1.5 pr-4">
                  <Link className="link font-medium" to={`/plans/${encodeURIComponent(p.name)}`}>
                    {p.name}
                  </Link>
                  {p.about && <span className="block max-w-[46ch] text-sm text-soft">{p.about}</span>}
                  {p.lacks && (
                    <span className="block max-w-[60ch] text-sm text-petrol">could not be started now: {p.lacks}</span>
                  )}
                </td>
                <td className="py-1.5 pr-4 text-soft">
                  {p.starts.length > 0
                    ? p.starts.map((s) => (
                        <span key={s} className="block max-w-[30ch]">
                          {s}
                        </span>
                      ))
                    : "when somebody starts it"}
                </td>
                <td className="py-1.5 pr-4 whitespace-nowrap">
                  {p.paused ? (
                    <b className="font-medium">paused</b>
                  ) : p.next ? (
                    moment(p.next)
                  ) : (
                    <span className="text-faint">—</span>
                  )}
                </td>
                <td className="py-1.5 pr-4">
                  <Lately list={p.late} />
                </td>
                <td className="py-1.5">
                  {p.broken ? (
                    <span className="text-petrol">It cannot be read by this version.</span>
                  ) : (
                    p.late[0] && (
                      <span className={p.late[0].run === undefined ? "block max-w-[36ch]" : "text-soft"}>
                        {p.late[0].run ? `run ${p.late[0].run}, ${startWords(p.late[0])}` : startWords(p.late[0])}
                      </span>
                    )
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
