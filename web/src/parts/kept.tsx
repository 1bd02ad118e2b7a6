import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { inProject, post, type SeenFault, type Session, type SessionEntry } from "../data/api";
import { clock } from "../data/session";
import { Modal, Tip, Trouble } from "./plain";

export const keptPath = (session: number, e: SessionEntry) => inProject(`sessions/${session}/kept/${e.lease}/${e.seq}`);

const signs: Record<string, string> = {
  picture: "▣",
  video: "▶",
  mark: "⚑",
  crash: "■",
  trouble: "▲",
  app: "○",
  felt: "≈",
  open: "┤",
  prepared: "·",
  did: "·",
  cleaned: "├",
};

/** Time runs along, with what happened on it. */
export function TimeLine({ entries, until }: { entries: SessionEntry[]; until: number }) {
  const end = Math.max(until, entries[entries.length - 1]?.at_ms ?? 0, 1000);
  const seen = entries.filter((e) => ["picture", "video", "mark", "crash", "trouble", "felt", "app"].includes(e.kind));
  return (
    <div className="relative mx-2 h-5 flex-none" aria-hidden="true">
      <div className="absolute inset-x-0 top-1/2 h-px bg-strong" />
      {seen.map((e) => (
        <Tip key={`${e.lease}-${e.seq}`} words={`${clock(e.at_ms)} ${e.text}`}>
          <span
            className={`absolute top-0 -translate-x-1/2 bg-paper px-px text-[11px] leading-5 ${e.kind === "crash" ? "text-vermilion" : e.kind === "trouble" ? "text-petrol" : ""}`}
            style={{ left: `${(100 * e.at_ms) / end}%` }}
          >
            {signs[e.kind] ?? "·"}
          </span>
        </Tip>
      ))}
    </div>
  );
}

/** What happened, and what stays, in order. */
export function Kept({ session, entries, follow }: { session: Session; entries: SessionEntry[]; follow?: boolean }) {
  const [finding, setFinding] = useState<SessionEntry>();
  const [large, setLarge] = useState<SessionEntry>();
  const list = follow ? [...entries].reverse() : entries;
  return (
    <>
      {list.length === 0 && (
        <p className="py-2 text-sm text-soft">What you do, and what you keep, is listed here on the session’s time.</p>
      )}
      <ol className="pb-3">
        {list.map((e) => (
          <li
            key={`${e.lease}-${e.seq}`}
            className={`flex gap-2 border-b border-rule py-1 ${e.kind === "crash" ? "text-vermilion" : e.kind === "trouble" ? "text-petrol" : ""}`}
          >
            <span className="w-12 flex-none text-right font-mono text-[11.5px] leading-5 text-faint">
              {clock(e.at_ms)}
            </span>
            <span className="w-3 flex-none text-center" aria-hidden="true">
              {signs[e.kind] ?? ""}
            </span>
            <div className="min-w-0 flex-1">
              {e.lines.length > 0 && e.kind === "did" ? (
                <code className="font-mono text-[11.5px] break-words">{e.lines.join("\n")}</code>
              ) : (
                <span className="break-words">{e.text}</span>
              )}
              {e.kind === "cleaned" && Array.isArray(e.detail?.items) && (
                <ul className="text-sm text-soft">
                  {(e.detail.items as string[]).map((i) => (
                    <li key={i}>{i}</li>
                  ))}
                </ul>
              )}
              {e.kind === "crash" && typeof e.detail?.report === "string" && e.detail.report !== "" && (
                <pre className="max-h-40 overflow-auto text-[11px] whitespace-pre-wrap">{e.detail.report}</pre>
              )}
              {e.media_type === "video/webm" && (
                <video
                  controls
                  preload="metadata"
                  className="mt-1 max-h-72 max-w-full rounded"
                  src={keptPath(session.number, e)}
                  aria-label={e.text}
                />
              )}
              {["picture", "mark", "crash", "trouble"].includes(e.kind) && (
                <button className="link ml-2 text-sm" onClick={() => setFinding(e)}>
                  Make a finding of it
                </button>
              )}
            </div>
            {e.media_type === "image/png" && (
              <button className="flex-none" aria-label={`Show the picture ${e.text}`} onClick={() => setLarge(e)}>
                <img
                  src={keptPath(session.number, e)}
                  alt=""
                  loading="lazy"
                  className="h-20 max-w-28 rounded-sm object-contain outline-1 outline-rule"
                />
              </button>
            )}
          </li>
        ))}
      </ol>
      <Modal title={large?.text ?? ""} wide open={!!large} onClose={() => setLarge(undefined)}>
        {large && <img src={keptPath(session.number, large)} alt={large.text} className="mx-auto max-h-[72vh]" />}
      </Modal>
      <Modal
        title="Make a finding"
        about="What should be mended. Build, device, surroundings, the way there and the log around it come with it."
        open={!!finding}
        onClose={() => setFinding(undefined)}
      >
        {finding && (
          <NewFinding
            from={{ session: session.number, lease: finding.lease, seq: finding.seq }}
            title={finding.kind === "crash" ? finding.text : ""}
          />
        )}
      </Modal>
    </>
  );
}

type From = { session: number; lease: number; seq: number } | { failed: { run: number; leg: number; case: number } };

export function NewFinding({ from, title: usual }: { from: From; title: string }) {
  const [title, setTitle] = useState(usual);
  const [note, setNote] = useState("");
  const [trouble, setTrouble] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const navigate = useNavigate();
  return (
    <form
      className="space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        setBusy(true);
        post<SeenFault>(inProject("findings"), { title, note, ...from })
          .then((f) => navigate(`/findings/${f.number}`))
          .catch(setTrouble)
          .finally(() => setBusy(false));
      }}
    >
      <label className="block">
        <span className="text-soft">In a few words</span>
        <input
          className="field w-full"
          autoFocus
          required
          maxLength={300}
          value={title}
          onChange={(e) => setTitle(e.target.value)}
          placeholder="Total lies under the bar in German"
        />
      </label>
      <label className="block">
        <span className="text-soft">What you expected, and what you saw</span>
        <textarea
          className="field h-28 w-full py-1"
          maxLength={20000}
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
      </label>
      {trouble !== undefined && <Trouble of={trouble} />}
      <p className="flex items-center justify-between gap-3">
        <span className="text-sm text-soft">
          Everybody of the project may read it. On its page you can draw on the picture.
        </span>
        <button className="button button-main" disabled={busy || !title.trim()}>
          Keep the finding
        </button>
      </p>
    </form>
  );
}

export function FindingLinks({ list }: { list: SeenFault[] }) {
  return (
    <ul>
      {list.map((f) => (
        <li key={f.number}>
          <Link className="link" to={`/findings/${f.number}`}>
            Finding {f.number}: {f.title}
          </Link>
        </li>
      ))}
    </ul>
  );
}
