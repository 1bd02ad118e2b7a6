import { Link } from "react-router";
import { useGet, type Suite } from "../data/api";
import { at, plural } from "../data/time";
import { Command, Empty, Heading, Trouble, Waiting } from "../parts/plain";
import { useStart } from "../parts/use-start";

export function SuitesPage() {
  const suites = useGet<Suite[]>("suites");
  const start = useStart();
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title="Suites" about="The newest revision of each: as it was handed in from a folder, or written here.">
        <Link className="button" to="/write">
          Write a suite
        </Link>
      </Heading>
      {suites.error && <Trouble of={suites.error} retry={() => void suites.refetch()} />}
      {suites.isPending && <Waiting what="suites" />}
      {suites.data?.length === 0 && (
        <Empty title="No suites yet.">
          <p>
            A suite is a script file. Check it with <Command>yamato suite check FILE</Command> and hand it in with{" "}
            <Command>yamato suite push DIR</Command>, or write one here
          </p>
        </Empty>
      )}
      {suites.data && suites.data.length > 0 && (
        <table className="w-full">
          <thead className="border-b border-strong text-left text-sm text-soft">
            <tr>
              <th className="py-1 pr-4 font-normal">Suite</th>
              <th className="pr-4 font-normal">Cases</th>
              <th className="pr-4 font-normal">Tags</th>
              <th className="pr-4 font-normal">From</th>
              <th className="pr-4 font-normal">Handed in</th>
              <th className="sr-only">Actions</th>
            </tr>
          </thead>
          <tbody>
            {suites.data.map((s) => (
              <tr key={s.name} className="border-b border-rule hover:bg-wash">
                <td className="py-2 pr-4 font-medium">
                  <Link className="link" to={`/suites/${encodeURIComponent(s.name)}`}>
                    {s.name}
                  </Link>
                  <span className="pl-2 text-sm font-normal text-faint">revision {s.revision}</span>
                </td>
                <td className="pr-4">{plural(s.cases.length, "case")}</td>
                <td className="pr-4 text-soft">{[...new Set(s.cases.flatMap((c) => c.tags))].join(", ")}</td>
                <td className="pr-4 text-sm">
                  {s.origin === "kept" ? (
                    <Link className="link" to={`/write/${encodeURIComponent(s.name)}`}>
                      written here
                    </Link>
                  ) : (
                    <span className="font-mono">{s.file_name}</span>
                  )}
                </td>
                <td className="pr-4 whitespace-nowrap">{at(s.created_at)}</td>
                <td className="py-1.5 text-right">
                  <button
                    className="button"
                    aria-label={`Start a run of ${s.name}`}
                    onClick={() => start({ of: s.name })}
                  >
                    Start a run
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
