import { useEffect, useRef, type ReactNode } from "react";
import {
  evidencePath,
  framePath,
  inProject,
  type Evidence,
  type Frame,
  type Sheet,
  type SheetAttempt,
} from "../../data/api";
import { size, seconds } from "../../data/time";

export function Strip({
  run,
  frames,
  nearest,
  onMoment,
}: {
  run: number;
  frames: Frame[];
  nearest: number;
  onMoment: (ms: number) => void;
}) {
  const list = useRef<HTMLDivElement>(null);
  useEffect(() => {
    list.current?.children[nearest]?.scrollIntoView({ inline: "nearest", block: "nearest" });
  }, [nearest]);
  if (frames.length === 0) return null;
  return (
    <div
      ref={list}
      className="flex flex-none gap-1 overflow-x-auto pb-1.5"
      role="group"
      aria-label={`Pictures at each change, ${frames.length}`}
    >
      {frames.map((f, i) => (
        <button
          key={i}
          onMouseEnter={() => onMoment(f.at_ms)}
          onFocus={() => onMoment(f.at_ms)}
          onClick={() => onMoment(f.at_ms)}
          aria-label={`The screen at ${seconds(f.at_ms)} s`}
          aria-pressed={i === nearest}
          className={`flex-none overflow-hidden rounded-[2px] border ${i === nearest ? "border-ink" : "border-rule"}`}
        >
          <img loading="lazy" src={framePath(run, f)} alt="" className="h-14 w-auto" />
        </button>
      ))}
    </div>
  );
}

export function EvidenceLine({ run, sheet, a }: { run: number; sheet: Sheet; a: SheetAttempt }) {
  const gone = a.evidence.filter((e) => e.gone);
  const missing = [
    ...(a.result?.not_kept ?? []),
    ...gone.map((e) => ({ sort: e.sort === e.name ? e.sort : `${e.sort} ${e.name}`, why: e.gone! })),
  ];
  const item = (e: Evidence): ReactNode => (
    <a
      key={e.id}
      className="link whitespace-nowrap"
      href={evidencePath(run, e.id)}
      download={fileName(e)}
      title={`${e.media_type}, ${size(e.size)}`}
    >
      {e.sort === e.name ? e.sort : `${e.sort} ${e.name}`}
    </a>
  );
  return (
    <footer className="flex flex-none flex-wrap items-baseline gap-x-3 border-t border-rule px-5 py-1.5 text-sm text-soft">
      <span>Evidence:</span>
      {a.evidence.filter((e) => !e.gone).map(item)}
      {a.evidence.length === 0 && <span>none was kept</span>}
      {missing.length > 0 && (
        <details>
          <summary>not kept: {missing.map((n) => n.sort).join(", ")}</summary>
          {missing.map((n) => (
            <span key={n.sort} className="block">
              {n.sort}: {n.why}
            </span>
          ))}
        </details>
      )}
      {a.evidence.length > 0 && (
        <a
          className="link ml-auto"
          href={inProject(`runs/${run}/evidence.zip?leg=${sheet.leg}&case=${sheet.case_index}`)}
          download
        >
          all of it
        </a>
      )}
    </footer>
  );
}

function fileName(e: Evidence): string {
  const ends: Record<string, string> = {
    "image/png": "png",
    "application/json": "json",
    "application/zip": "zip",
    "video/webm": "webm",
    "application/gzip": "csv.gz",
    "application/json; profile=har": "har",
  };
  return `${e.name.replace(/[^\w -]/g, "_")}-attempt-${e.attempt}.${ends[e.media_type] ?? "txt"}`;
}
