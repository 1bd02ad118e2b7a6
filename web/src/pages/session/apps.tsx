import { useState } from "react";
import { useGet, type Build } from "../../data/api";
import { type Answer, type Order, type Shown } from "../../data/session";
import { handIn } from "../../data/uploads";
import { Pick } from "../../parts/start/pick";

/** The apps of the session: another build, an update, start, stop, empty, remove, a link. */
export function Apps({ shown, act }: { shown: Shown; act: (o: Order) => Promise<Answer> }) {
  const builds = useGet<{ items: Build[] }>("builds?limit=50");
  const [build, setBuild] = useState("");
  const [fresh, setFresh] = useState(false);
  const [link, setLink] = useState("");
  const [busy, setBusy] = useState("");
  const apps = shown.status?.apps ?? [];
  const items = builds.data?.items ?? [];
  const key = (b: Build) => `${b.app}/${b.number}`;
  const install = (b: Build | undefined) => b && act({ do: "install", name: `#${b.number}`, app: b.app, on: fresh });
  return (
    <div className="space-y-3 pb-3">
      {apps.length === 0 && <p className="text-sm text-soft">No app has been put on the device in this session.</p>}
      <ul>
        {apps.map((a) => (
          <li key={a.id} className="border-b border-rule py-1.5">
            <p>
              <b className="font-medium">{a.name || a.id}</b> {a.version}{" "}
              {shown.status?.front === a.id && <span className="chip">in front</span>}{" "}
              {a.there && <span className="chip">was there before</span>}
            </p>
            <p className="text-sm text-faint">{a.id}</p>
            <div className="flex flex-wrap gap-1.5 pt-1">
              {[
                ["start", "Start"],
                ["stop", "Stop"],
                ["empty", "Empty and start"],
                ...(a.there ? [] : [["remove", "Remove"]]),
              ].map(([does, words]) => (
                <button key={does} className="button h-6 px-2" onClick={() => void act({ do: does!, app: a.id })}>
                  {words}
                </button>
              ))}
            </div>
          </li>
        ))}
      </ul>
      <div className="space-y-1.5">
        <h2>Install a build</h2>
        <div className="flex flex-wrap items-center gap-1.5">
          <Pick
            narrow
            label="Build"
            value={build}
            onChange={setBuild}
            options={[
              ["", "choose a build…"],
              ...items.map((b): [string, string] => [key(b), `${b.app} ${b.version_name}`]),
            ]}
          />
          <button
            className="button h-7"
            disabled={!build}
            onClick={() => void install(items.find((b) => key(b) === build))}
          >
            Install
          </button>
          <label className="flex items-center gap-1 text-sm">
            <input type="checkbox" checked={fresh} onChange={(e) => setFresh(e.target.checked)} /> with its data gone
          </label>
        </div>
        <label className="button relative h-7">
          {busy || "Hand in a package and install it…"}
          <input
            type="file"
            className="sr-only"
            onChange={(e) => {
              const files = [...(e.target.files ?? [])];
              e.target.value = "";
              if (files.length === 0) return;
              setBusy("Handing it in…");
              void handIn(files)
                .then(([b]) => install(b))
                .finally(() => setBusy(""));
            }}
          />
        </label>
      </div>
      <form
        className="space-y-1.5"
        onSubmit={(e) => {
          e.preventDefault();
          void act({ do: "link", app: shown.status?.front || apps[0]?.id, text: link });
        }}
      >
        <h2>Follow a link</h2>
        <div className="flex gap-1.5">
          <input
            aria-label="Link"
            className="field min-w-0 flex-1"
            value={link}
            onChange={(e) => setLink(e.target.value)}
            placeholder="tideline://tickets"
          />
          <button className="button" disabled={!link}>
            Follow
          </button>
        </div>
      </form>
    </div>
  );
}
