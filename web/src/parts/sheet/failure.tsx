import { Fragment } from "react";
import { Link } from "react-router";
import { type Result, type SheetAttempt } from "../../data/api";
import { at, lasting } from "../../data/time";
import { VerdictWord } from "../verdict";

const lineWords = (p: { file?: string; line: number }, large: boolean) =>
  `${p.file ? `${p.file}, ` : ""}${large && !p.file ? "Line" : "line"} ${p.line}`;

export function FailureWords({ a }: { a: SheetAttempt }) {
  const r: Result | undefined = a.result;
  const f = r?.failure ?? undefined;
  const took = r ? `, took ${lasting(r.took_ms)} of the device's time` : "";
  if (!f)
    return (
      <p className={`flex-none py-2 ${a.result || a.attempt.ended ? "px-5" : ""}`}>
        <VerdictWord of={r?.verdict ?? "none"} running={!r && !a.attempt.ended} />
        <span className="text-soft">
          {" "}
          on {a.attempt.device}, began {at(a.attempt.began)}
          {took}
        </span>
        {a.attempt.trouble && <span className="block text-petrol">{a.attempt.trouble}</span>}
      </p>
    );
  const ink = r?.verdict === "fail" ? "border-vermilion bg-vermilion-wash" : "border-petrol bg-petrol-wash";
  return (
    <div className={`flex-none border-l-2 px-[18px] py-2 ${ink}`} role="group" aria-label="The failure">
      <p>
        {f.phase ? `${f.phase[0]!.toUpperCase()}${f.phase.slice(1)}, ` : ""}
        {lineWords(f, !f.phase)}: <code className="font-mono text-sm">{f.step}</code>
      </p>
      {[...(f.way ?? [])].reverse().map((w) => (
        <p key={`${w.file ?? ""} ${w.line} ${w.text}`} className="pl-4 text-sm text-soft">
          called on {lineWords(w, false)}: <code className="font-mono">{w.text}</code>
        </p>
      ))}
      <dl className="grid grid-cols-[68px_1fr] gap-x-2">
        <dt className="text-soft">expected</dt>
        <dd className="break-words">{f.expected}</dd>
        <dt className="text-soft">but</dt>
        <dd className="font-semibold break-words">{f.actual}</dd>
        {(f.difference?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">differs</dt>
            <dd className="font-mono text-sm break-words">
              {f.difference!.map((p, i, all) => (
                <Fragment key={i}>
                  {i > 0 && p.of !== "both" && all[i - 1]!.of !== "both" && (
                    <span className="px-1 text-soft" aria-label="but">
                      {" "}
                      →{" "}
                    </span>
                  )}
                  {p.of === "both" ? (
                    <span>{p.text}</span>
                  ) : p.of === "expected" ? (
                    <del title="expected" className="border-b-2 border-petrol text-petrol no-underline">
                      {p.text}
                    </del>
                  ) : (
                    <ins
                      title="was there"
                      className="border-b-2 border-dashed border-vermilion text-vermilion no-underline"
                    >
                      {p.text}
                    </ins>
                  )}
                </Fragment>
              ))}
            </dd>
          </>
        )}
        {(f.values?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">values</dt>
            <dd className="font-mono text-sm break-words">
              {f.values!.map((v) => `$${v.name} = ${v.value}`).join(", ")}
            </dd>
          </>
        )}
        {(f.after?.length ?? 0) > 0 && (
          <>
            <dt className="text-soft">after</dt>
            <dd className="break-words">{f.after!.join("; ")}</dd>
          </>
        )}
      </dl>
      {a.bearing && (
        <p className="text-sm">
          {a.bearing.touched &&
            `Looked for the same here, and passed: ${a.bearing.touched.map((t) => `“${t}”`).join(", ")}. `}
          {a.bearing.last_passed && (
            <>
              This step last passed in {a.bearing.last_passed},{" "}
              <Link className="link" to={`/runs/${a.bearing.last_passed_run}`}>
                run {a.bearing.last_passed_run}
              </Link>
              .
            </>
          )}
        </p>
      )}
      <p className="text-sm text-soft">
        On {a.attempt.device}, began {at(a.attempt.began)}
        {took}
        {(f.waited_ms ?? 0) > 0 &&
          `; waited ${lasting(f.waited_ms)}, ${(f.pending_ms ?? 0) > 0 ? `an answer had been awaited for ${lasting(f.pending_ms!)}` : `nothing had changed for ${lasting(f.quiet_ms ?? 0)}`}`}
      </p>
      {(f.log?.length ?? 0) > 0 && (
        <details className="pt-1">
          <summary className="text-sm">The app’s log around it, errors first</summary>
          <pre className="max-h-40 overflow-auto font-mono text-sm whitespace-pre-wrap" tabIndex={0}>
            {f
              .log!.map((l) => `${(l.at_ms / 1000).toFixed(3).padStart(9)} ${l.level.padEnd(5)} ${l.tag}: ${l.text}`)
              .join("\n")}
          </pre>
        </details>
      )}
      {f.report && (
        <details className="pt-1">
          <summary className="text-sm">Crash report</summary>
          <pre className="max-h-40 overflow-auto font-mono text-sm whitespace-pre-wrap" tabIndex={0}>
            {f.report}
          </pre>
        </details>
      )}
    </div>
  );
}
