import type { Step } from "../../data/api";
import { failed, type Call } from "../../data/calls";
import { firstCall, type Log } from "../../data/log";
import { lasting, size, seconds } from "../../data/time";

/** The moment that is pointed at, with all its words. */
export function InFull({ m, steps, log, calls }: { m: number; steps: Step[]; log: Log; calls: Call[] }) {
  const s = m < 0 ? steps[-1 - m] : undefined;
  const c = m >= firstCall ? calls[m - firstCall] : undefined;
  const l = m >= 0 && m < firstCall ? log.line(m) : undefined;
  return (
    <div
      className={`${c ? "h-[150px]" : "h-[62px]"} flex-none overflow-auto border-t border-rule px-5 py-1.5 font-mono text-sm break-words`}
      tabIndex={0}
      role="region"
      aria-label="The moment in full"
    >
      {s && (
        <>
          <span className="text-soft">
            {seconds(s.at_ms)} s, line {s.line}:
          </span>{" "}
          {s.text}
          {s.note && (
            <span className={`block ${s.verdict === "pass" ? "text-petrol" : "text-vermilion"}`}>{s.note}</span>
          )}
        </>
      )}
      {l && (
        <>
          <span className="text-soft">
            {seconds(l.at)} s, {l.level} {l.tag}:
          </span>{" "}
          {l.text}
        </>
      )}
      {c && <CallInFull c={c} />}
    </div>
  );
}

function CallInFull({ c }: { c: Call }) {
  const carried = (what: string, p: Call["asked"]) => (
    <div className="pt-1">
      <p className="text-soft">{what}</p>
      {p.headers.map((h, i) => (
        <p key={i} className="pl-3">
          <span className="text-soft">{h.name}:</span> {h.value}
        </p>
      ))}
      {p.body !== undefined && p.body !== "" && <pre className="pl-3 whitespace-pre-wrap">{p.body}</pre>}
      {p.note && <p className="pl-3 text-petrol">{p.note}</p>}
    </div>
  );
  return (
    <>
      <p>
        <span className="text-soft">{seconds(c.at)} s:</span> {c.method} {c.address}
      </p>
      <p className={failed(c) ? "text-vermilion" : "text-soft"}>
        {c.status
          ? `${c.status}, ${c.kind || "no media type"}, ${size(Math.max(0, c.bytes))}`
          : (c.trouble ?? "no answer")}{" "}
        in {lasting(c.took)}
        {c.wait > 0 && c.wait < c.took && `, of which ${lasting(c.wait)} until it began`}
      </p>
      {carried("asked with", c.asked)}
      {carried("answered with", c.answered)}
    </>
  );
}
