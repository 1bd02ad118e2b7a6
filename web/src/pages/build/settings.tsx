import { useState } from "react";
import { useSearchParams } from "react-router";
import { useGet, type Lineup, type Settings } from "../../data/api";
import { useFleet } from "../../data/live";
import { Trouble } from "../../parts/plain";
import { Pick } from "../../parts/start/pick";

export function SettingsView({ path, app }: { path: string; app: string }) {
  const fleet = useFleet();
  const lineups = useGet<Lineup[]>("lineups");
  const [params, set] = useSearchParams();
  const on = params.get("on") ?? "";
  const [sort, name] = on.includes(":") ? [on.slice(0, on.indexOf(":")), on.slice(on.indexOf(":") + 1)] : ["", ""];
  const query = new URLSearchParams({ app, ...(sort ? { [sort]: name } : {}) });
  const s = useGet<Settings>(`${path}/settings?${query.toString()}`, { placeholderData: (b) => b });
  const options: [string, string][] = [
    ["", "on everything that fits"],
    ...(lineups.data ?? []).map((l): [string, string] => [`lineup:${l.name}`, `on the lineup ${l.name}`]),
    ...[...fleet.values()]
      .slice(0, 300)
      .map((d): [string, string] => [`device:${d.name}`, `on devices like ${d.name}`]),
  ];
  return (
    <div className="space-y-3">
      <Pick
        label="Where to run it"
        value={on}
        options={options}
        onChange={(v) =>
          set(
            (p) => {
              if (v) p.set("on", v);
              else p.delete("on");
              return p;
            },
            { replace: true },
          )
        }
      />
      {s.error && <Trouble of={s.error} />}
      {s.data && (
        <>
          <Copy title="Command" text={s.data.command} />
          <Copy title="Document, a file for yamato run start --request" text={s.data.document} />
          <Copy title={`Request, for POST ${s.data.path}`} text={s.data.request} />
        </>
      )}
    </div>
  );
}

function Copy({ title, text }: { title: string; text: string }) {
  const [done, setDone] = useState(false);
  return (
    <div>
      <div className="flex items-baseline justify-between pb-1">
        <h2>{title}</h2>
        <button
          className="link"
          onClick={() => {
            void navigator.clipboard?.writeText(text).then(() => {
              setDone(true);
              setTimeout(() => setDone(false), 1500);
            });
          }}
        >
          {done ? "Copied" : "Copy"}
        </button>
      </div>
      <pre
        className="overflow-auto border border-rule bg-sheet px-3 py-2 font-mono text-sm whitespace-pre-wrap"
        tabIndex={0}
        aria-label={title}
      >
        {text.trimEnd()}
      </pre>
    </div>
  );
}
