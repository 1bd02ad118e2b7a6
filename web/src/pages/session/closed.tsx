import { useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { inProject, post, useGet, type SeenFault, type Session } from "../../data/api";
import { useTitle } from "../../data/live";
import { clock, LogBook } from "../../data/session";
import { at, plural } from "../../data/time";
import { DeviceLog } from "../../parts/device-log";
import { FindingLinks, Kept, TimeLine } from "../../parts/kept";
import { Heading, Section, Trouble, Waiting } from "../../parts/plain";
import { useEntries } from "./entries";

/** What stays of a session. */
export function Closed({ s }: { s: Session }) {
  useTitle(s.name);
  const entries = useEntries(s.number);
  const findings = useGet<{ findings: SeenFault[] }>(`findings?session=${s.number}`);
  const [book] = useState(() => new LogBook());
  const [trouble, setTrouble] = useState<unknown>();
  const navigate = useNavigate();
  useEffect(() => {
    void fetch(inProject(`sessions/${s.number}/log?as=lines`), { credentials: "same-origin" })
      .then((r) => (r.ok ? r.text() : ""))
      .then((t) => book.read(t));
  }, [s.number, book]);
  const list = entries.data ?? [];
  const lines = list.flatMap((e) => e.lines);
  const end = list[list.length - 1]?.at_ms ?? 0;
  return (
    <div className="flex h-full flex-col px-5 pt-4">
      <Heading
        title={s.name}
        about={
          <>
            Session {s.number} of {s.asked_by}, closed {s.closed_at && at(s.closed_at)}: {s.why}. {s.device}
            {s.model && `, ${s.model} ${s.os}`}
            {s.build && `, ${s.build}`}.{s.purpose && ` ${s.purpose}`}
          </>
        }
      >
        <Link className="button" to={`/by-hand/${s.number}/sheet`}>
          On one time line
        </Link>
        <button
          className="button"
          onClick={() => {
            post<Session>(inProject("sessions"), {
              device: s.device,
              name: s.name,
              purpose: s.purpose,
              ...(s.build ? { build: s.build.split(" ").at(-1), app: s.build.split(" ").slice(0, -1).join(" ") } : {}),
              ...(s.language ? { language: s.language } : {}),
            })
              .then((n) => navigate(`/by-hand/${n.number}`))
              .catch(setTrouble);
          }}
        >
          Open one like it
        </button>
        {lines.length > 0 && (
          <button className="button" onClick={() => void navigator.clipboard?.writeText(lines.join("\n"))}>
            Copy the way as {plural(lines.length, "line")} of script
          </button>
        )}
      </Heading>
      {trouble !== undefined && <Trouble of={trouble} />}
      {list.length > 0 && <TimeLine entries={list} until={end} />}
      <div className="flex min-h-0 flex-1 gap-5 pb-2">
        <div className="min-w-0 flex-1 overflow-auto">
          {(findings.data?.findings.length ?? 0) > 0 && (
            <Section title="Findings">
              <FindingLinks list={findings.data!.findings} />
            </Section>
          )}
          <Section title="What happened" aside={end > 0 ? `${clock(end)} in all` : undefined}>
            {entries.isPending ? <Waiting what="what was kept" /> : <Kept session={s} entries={list} />}
          </Section>
        </div>
        <div className="flex w-[44%] min-w-0 flex-none flex-col">
          <DeviceLog book={book} download={inProject(`sessions/${s.number}/log`)} />
        </div>
      </div>
    </div>
  );
}
