import { Link } from "react-router";
import { useGet, type Changes } from "../../data/api";
import { size } from "../../data/time";
import { Section, Trouble, Waiting } from "../../parts/plain";
import { kindName } from "../builds";
import { difference } from "./words";

export function ChangesView({ path, of }: { path: string; of: string }) {
  const c = useGet<Changes>(`${path}/changes${of}`);
  if (c.error) return <Trouble of={c.error} retry={() => void c.refetch()} />;
  if (!c.data) return <Waiting what="what changed" />;
  if (!c.data.against)
    return <p className="py-3 text-soft">It is the first build of its app: there is nothing to compare it with.</p>;
  const kinds = [...new Set(c.data.changes.map((x) => x.package))];
  return (
    <div>
      <p className="pb-2 text-soft">
        Against{" "}
        <Link className="link" to={`/builds/${c.data.against.number}?app=${encodeURIComponent(c.data.against.app)}`}>
          {c.data.against.version_name} ({c.data.against.version_code})
        </Link>
        , the build before.
      </p>
      {kinds.map((k) => (
        <Section key={k} title={kindName(k)}>
          {c.data.changes
            .filter((x) => x.package === k)
            .map((x) => (
              <div key={x.what} className="grid grid-cols-[170px_1fr] border-b border-rule py-1">
                <span className="text-soft">{x.what}</span>
                <span>
                  {x.what.startsWith("size of") ? (
                    <>
                      {size(Number(x.after))}, was {size(Number(x.before))}{" "}
                      <span className="text-soft">({difference(Number(x.after) - Number(x.before))})</span>
                    </>
                  ) : x.added || x.removed ? (
                    <>
                      {x.added?.map((v) => (
                        <div key={v}>new: {v}</div>
                      ))}
                      {x.removed?.map((v) => (
                        <div key={v}>gone: {v}</div>
                      ))}
                    </>
                  ) : (
                    <>
                      {x.after ?? "none"}, was {x.before ?? "none"}
                    </>
                  )}
                </span>
              </div>
            ))}
        </Section>
      ))}
      {kinds.length === 0 && <p className="py-3 text-soft">Nothing that packages tell of has changed.</p>}
    </div>
  );
}
