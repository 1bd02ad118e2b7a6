import { useState } from "react";
import { Link } from "react-router";
import { inProject, post, useGet, type Build, type Handover, type Run } from "../../data/api";
import { at } from "../../data/time";
import { Section, Trouble } from "../../parts/plain";
import { RunVerdict } from "../../parts/runs";
import { type BuildPatch } from "./words";

export function RunsOf({ b }: { b: Build }) {
  const runs = useGet<{ items: Run[] }>(`runs?build=${b.number}&limit=20`);
  const mine = runs.data?.items.filter((r) => r.app === b.app) ?? [];
  return (
    <Section title="Runs of it">
      {mine.map((r) => (
        <Link
          key={r.number}
          to={`/runs/${r.number}`}
          className="grid grid-cols-[56px_1fr_auto] items-baseline gap-3 border-b border-rule py-1.5 hover:bg-wash"
        >
          <span className="font-medium">Run {r.number}</span>
          <RunVerdict r={r} />
          <span className="text-soft">{at(r.started_at ?? r.created_at)}</span>
        </Link>
      ))}
      {runs.isSuccess && mine.length === 0 && <p className="py-3 text-soft">It has not run yet.</p>}
    </Section>
  );
}

export function NoteForm({ b, onSave }: { b: Build; onSave: (part: Partial<BuildPatch>) => void }) {
  const [note, setNote] = useState(b.note);
  const before = Object.entries(b.labels)
    .map(([k, v]) => `${k}=${v}`)
    .join("\n");
  const [labels, setLabels] = useState(before);
  return (
    <form
      className="grid gap-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        const next: Record<string, string> = Object.fromEntries(Object.keys(b.labels).map((k) => [k, ""]));
        for (const line of labels.split("\n")) {
          const i = line.indexOf("=");
          if (line.trim()) next[(i < 0 ? line : line.slice(0, i)).trim()] = i < 0 ? "" : line.slice(i + 1).trim();
        }
        onSave({ note, labels: next });
      }}
    >
      <label className="grid gap-1">
        Note
        <textarea
          className="field min-h-20 py-1.5"
          maxLength={2000}
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
      </label>
      <label className="grid gap-1">
        Labels, one a line, as in branch=main
        <textarea
          className="field min-h-24 py-1.5 font-mono text-sm"
          value={labels}
          onChange={(e) => setLabels(e.target.value)}
          spellCheck={false}
        />
      </label>
      <div className="flex justify-end">
        <button type="submit" className="button button-main">
          Save
        </button>
      </div>
    </form>
  );
}

export function Hand({ path, of }: { path: string; of: string }) {
  const [page, setPage] = useState<Handover>();
  const [trouble, setTrouble] = useState<unknown>();
  const [minutes, setMinutes] = useState(60);
  if (!page)
    return (
      <form
        className="grid gap-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          post<Handover>(inProject(`${path}/handovers${of}`), { minutes }).then(setPage, setTrouble);
        }}
      >
        <label className="flex items-center justify-between gap-3">
          How long the page is there, in minutes
          <input
            type="number"
            className="field w-28"
            min={1}
            max={10080}
            value={minutes}
            onChange={(e) => setMinutes(Number(e.target.value))}
          />
        </label>
        {trouble !== undefined && <Trouble of={trouble} />}
        <div className="flex justify-end">
          <button type="submit" className="button button-main">
            Make the page
          </button>
        </div>
      </form>
    );
  return (
    <div className="text-center">
      <img
        className="mx-auto size-56 rounded bg-white p-2"
        src={`data:image/png;base64,${page.qr}`}
        alt="The page's address as a QR code"
      />
      <p className="pt-2 break-all">
        <a className="link" href={page.url} target="_blank" rel="noreferrer">
          {page.url}
        </a>
      </p>
      <p className="text-soft">Until {at(page.expires_at)}. Whoever has the address can install it.</p>
      {page.hint && (
        <p role="note" className="mt-3 border-l-2 border-petrol bg-petrol-wash px-3 py-2 text-left text-petrol">
          {page.reachable ? "" : "No phone can open it as it is: "}
          {page.hint}.
        </p>
      )}
    </div>
  );
}
