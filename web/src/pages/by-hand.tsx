import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { inProject, post, useGet, type Device, type Lineup, type Session } from "../data/api";
import { useFleet } from "../data/live";
import { at, plural } from "../data/time";
import { systemName } from "../data/weave";
import { Command, Empty, Heading, Section, Trouble, Waiting } from "../parts/plain";
import { Pick } from "../parts/start/pick";
import { doing } from "../parts/strip";

const pins = "yamato.pinned";
const pinned = (): string[] => {
  try {
    return JSON.parse(localStorage.getItem(pins) ?? "[]") as string[];
  } catch {
    return [];
  }
};

export const stateWords: Record<string, string> = {
  opening: "being opened",
  open: "open",
  away: "nobody is there",
  closed: "closed",
};

/** Where one takes a device in hand, and finds the sessions that are going on and those that were. */
export function ByHandPage() {
  const fleet = useFleet();
  const navigate = useNavigate();
  const [params, set] = useSearchParams();
  const q = params.get("q") ?? "";
  const [mine, setMine] = useState(pinned);
  const [lineup, setLineup] = useState("");
  const [busy, setBusy] = useState("");
  const [trouble, setTrouble] = useState<unknown>();
  const going = useGet<{ sessions: Session[] }>("sessions?going=true", { refetchInterval: 3000 });
  const past = useGet<{ sessions: Session[] }>("sessions?limit=20");
  const devices = useGet<Device[]>("devices");
  const lineups = useGet<Lineup[]>("lineups");
  const list = (devices.data ?? [])
    .filter((d) =>
      `${d.name} ${d.model} ${systemName(d.platform, d.os)} ${d.kind} ${d.site}`
        .toLowerCase()
        .includes(q.toLowerCase()),
    )
    .sort(
      (a, b) =>
        Number(mine.includes(b.name)) - Number(mine.includes(a.name)) ||
        a.name.localeCompare(b.name, undefined, { numeric: true }),
    );
  const take = (what: { device?: string; lineup?: string }) => {
    setBusy(what.device ?? what.lineup ?? "");
    setTrouble(undefined);
    post<Session>(inProject("sessions"), what)
      .then((s) => navigate(`/by-hand/${s.number}`))
      .catch(setTrouble)
      .finally(() => setBusy(""));
  };
  const pin = (name: string) => {
    const next = mine.includes(name) ? mine.filter((n) => n !== name) : [...mine, name];
    localStorage.setItem(pins, JSON.stringify(next));
    setMine(next);
  };
  const open = going.data?.sessions ?? [];
  const closed = (past.data?.sessions ?? []).filter((s) => s.state === "closed");
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title="By hand" about="Take a device in hand: it is made ready while you say what for.">
        <input
          type="search"
          aria-label="Find a device"
          placeholder="Name, model, OS, site"
          className="field w-60"
          value={q}
          onChange={(e) => set(e.target.value ? { q: e.target.value } : {}, { replace: true })}
        />
        {(lineups.data?.length ?? 0) > 0 && (
          <>
            <Pick
              narrow
              label="Lineup"
              value={lineup}
              onChange={setLineup}
              options={[
                ["", "any of a lineup…"],
                ...(lineups.data ?? []).map((l): [string, string] => [l.name, l.name]),
              ]}
            />
            <button className="button" disabled={!lineup || !!busy} onClick={() => take({ lineup })}>
              Take any of it
            </button>
          </>
        )}
        <Link className="button" to="/findings">
          Findings
        </Link>
      </Heading>
      {trouble !== undefined && <Trouble of={trouble} />}
      {open.length > 0 && (
        <Section title="Going on" aside={plural(open.length, "session")}>
          <Sessions list={open} />
          {open.filter((s) => s.mine).length > 1 && (
            <p className="pt-2">
              <Link
                className="link"
                to={`/by-hand/side?of=${open
                  .filter((s) => s.mine)
                  .map((s) => s.number)
                  .join(",")}`}
              >
                Your sessions side by side, with one hand for all
              </Link>
            </p>
          )}
        </Section>
      )}
      <Section title="Devices" aside={`${plural(list.length, "device")}, pinned first`}>
        {devices.isPending && <Waiting what="the fleet" />}
        {devices.error && <Trouble of={devices.error} retry={() => void devices.refetch()} />}
        {devices.isSuccess && list.length === 0 && (
          <Empty title={q ? "No device is like that." : "No devices yet."}>
            {q ? null : (
              <p>
                <Command>yamato host --site FILE</Command> brings some.
              </p>
            )}
          </Empty>
        )}
        <ul>
          {list.map((d) => {
            const now = fleet.get(d.name);
            const state = now?.state ?? d.state;
            const no = ["offline", "unready", "sidelined"].includes(state);
            const waits = ["leased", "resetting", "booting"].includes(state);
            return (
              <li key={d.name} className="flex items-center gap-3 border-b border-rule py-1.5">
                <button
                  className="w-5 flex-none text-faint"
                  aria-label={mine.includes(d.name) ? `Unpin ${d.name}` : `Pin ${d.name}`}
                  aria-pressed={mine.includes(d.name)}
                  onClick={() => pin(d.name)}
                >
                  {mine.includes(d.name) ? "◆" : "◇"}
                </button>
                <Link className="w-44 flex-none truncate font-medium" to={`/fleet/${encodeURIComponent(d.name)}`}>
                  {d.name}
                </Link>
                <span className="w-64 flex-none truncate text-soft">
                  {d.model}, {systemName(d.platform, d.os)}, {d.kind}
                </span>
                <span className={`min-w-0 flex-1 truncate ${no ? "text-petrol" : "text-soft"}`}>
                  {now ? doing(now) : state}
                </span>
                <button
                  className="button h-6"
                  disabled={no || !!busy}
                  onClick={() => take({ device: d.name })}
                  title={no ? "It cannot be had now" : undefined}
                >
                  {busy === d.name
                    ? "Asking…"
                    : waits
                      ? "Wait in line"
                      : state === "halted"
                        ? "Boot and take it"
                        : "Take it"}
                </button>
              </li>
            );
          })}
        </ul>
      </Section>
      <Section title="Closed" aside={closed.length > 0 ? "newest first" : undefined}>
        {past.isSuccess && closed.length === 0 && (
          <p className="py-3 text-soft">
            No session has been closed yet. What was kept in one stays on its page. From the command line:{" "}
            <Command>yamato session open DEVICE</Command>
          </p>
        )}
        <Sessions list={closed} />
      </Section>
    </div>
  );
}

function Sessions({ list }: { list: Session[] }) {
  return (
    <ul>
      {list.map((s) => (
        <li key={s.number} className="flex items-center gap-3 border-b border-rule py-1.5">
          <span className="w-8 flex-none text-right text-faint">{s.number}</span>
          <Link className="min-w-0 flex-1 truncate font-medium" to={`/by-hand/${s.number}`}>
            {s.name}
          </Link>
          <span className="w-40 flex-none truncate text-soft">{s.device ?? s.wanted ?? s.lineup}</span>
          <span className="w-32 flex-none truncate text-soft">{s.build}</span>
          <span className="w-24 flex-none truncate text-soft">{s.asked_by}</span>
          <span className="w-28 flex-none text-soft">{at(s.created_at)}</span>
          <span className="w-52 flex-none truncate text-soft">
            {stateWords[s.state]}
            {s.why && `: ${s.why}`}
          </span>
        </li>
      ))}
    </ul>
  );
}
