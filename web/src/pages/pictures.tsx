import { Link, useParams, useSearchParams } from "react-router";
import { evidencePath, useGet, type NamedPicture, type Pictures } from "../data/api";
import { useTitle } from "../data/live";
import { plural } from "../data/time";
import { combinationWhole } from "../data/weave";
import { Empty, Heading, Trouble, Waiting } from "../parts/plain";
import { Pick } from "../parts/start/pick";
import { Shape } from "../parts/verdict";

/** One picture by its name, in every combination of a run. */
export function PicturesPage() {
  const { run = "" } = useParams();
  const number = Number(run);
  const [params, set] = useSearchParams();
  const asked = params.get("name") ?? "";
  const list = useGet<Pictures>(`runs/${number}/pictures${asked ? `?name=${encodeURIComponent(asked)}` : ""}`, {
    staleTime: 5000,
    placeholderData: (before) => before,
  });
  useTitle(asked ? `${asked}, run ${number}` : `Pictures of run ${number}`);
  const names = list.data?.names ?? [];
  const items = list.data?.items ?? [];
  const several = new Set(items.map((p) => p.case)).size > 1;
  return (
    <div className="px-5 py-5">
      <Heading
        title={asked || "A picture over all combinations"}
        about={
          <>
            of{" "}
            <Link className="link" to={`/runs/${number}`}>
              run {number}
            </Link>
            {asked && `, in ${plural(items.length, "place")}`}
          </>
        }
      >
        {names.length > 0 && (
          <Pick
            label="Picture"
            value={asked}
            onChange={(v) => set({ name: v })}
            options={[
              ...(asked ? [] : [["", "choose a picture"] as [string, string]]),
              ...names.map((n): [string, string] => [n.name, `${n.name} (${plural(n.legs, "combination")})`]),
            ]}
          />
        )}
      </Heading>
      {list.error && <Trouble of={list.error} retry={() => void list.refetch()} />}
      {list.isPending && <Waiting what="the pictures" />}
      {list.isSuccess && names.length === 0 && (
        <Empty title="No picture was kept of this run.">
          <p>A script keeps one with the step picture as "a name"; what rules keep is in the run’s cases.</p>
        </Empty>
      )}
      <ul className="flex flex-wrap gap-4">
        {items.map((p) => (
          <One key={p.evidence} run={number} p={p} several={several} />
        ))}
      </ul>
    </div>
  );
}

function One({ run, p, several }: { run: number; p: NamedPicture; several: boolean }) {
  return (
    <li className="w-[190px]">
      <Link to={`/runs/${run}?leg=${p.leg}&case=${p.case_index}&attempt=${p.attempt}`} className="block">
        {p.gone ? (
          <span className="block py-6 text-sm text-soft">{p.gone}</span>
        ) : (
          <img
            loading="lazy"
            src={evidencePath(run, p.evidence)}
            alt=""
            className="h-[340px] max-w-full rounded border border-rule object-contain object-top"
          />
        )}
        <span className="flex items-start gap-1.5 pt-1 text-sm">
          <span className="pt-0.5">
            <Shape of={p.verdict || "none"} />
          </span>
          <span>
            {several && <span className="block">{p.case}</span>}
            {combinationWhole(p.combination)}
            <span className="block text-soft">
              {(p.combination.levels ?? []).map((l) => l.words ?? l.value).join(", ")}
            </span>
          </span>
        </span>
      </Link>
    </li>
  );
}
