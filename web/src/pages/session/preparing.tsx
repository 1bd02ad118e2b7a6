import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { inProject, outdated, patch, put, useGet, type Device, type Session } from "../../data/api";
import { type Shown } from "../../data/session";
import { at, lasting, plural } from "../../data/time";
import { Trouble } from "../../parts/plain";
import { Pick } from "../../parts/start/pick";

/** While the device is made ready: what is done, and what it is for. */
export function Preparing({ shown, s }: { shown: Shown; s: Session }) {
  const { view, status } = shown;
  const navigate = useNavigate();
  const [other, setOther] = useState("");
  const devices = useGet<Device[]>("devices", { enabled: !status });
  const free = (devices.data ?? []).filter((d) => d.state === "idle");
  const busy = (devices.data ?? []).find((d) => d.name === s.wanted);
  return (
    <div className="mx-auto w-full max-w-md flex-1 overflow-auto pt-6">
      <h2 className="pb-2 text-lg">
        {status
          ? `${view?.device ?? "The device"} is made ready`
          : view?.waits
            ? `Waiting for ${view.waits}`
            : "Asking for the device"}
      </h2>
      {status?.steps.map((p) => (
        <p key={p.name} className="flex items-center gap-2 py-0.5">
          <span
            className={`verdict ${p.trouble ? "verdict-error" : p.took_ms < 0 ? "verdict-running" : "verdict-pass"}`}
            aria-hidden="true"
          />
          <span className="flex-1">
            {p.name}
            {p.trouble && <span className="text-petrol">: {p.trouble}</span>}
          </span>
          <span className="text-soft">{p.took_ms < 0 ? "…" : lasting(p.took_ms)}</span>
        </p>
      ))}
      {!status && view?.waits && (
        <div className="text-soft">
          <p>
            {busy?.at_hand
              ? `It is in hand: ${busy.at_hand}.`
              : busy?.run
                ? `Run ${busy.run} has it; you are next as soon as that leg is done.`
                : "It is yours as soon as it is free."}{" "}
            {view.ahead > 0 && `${plural(view.ahead, "session")} before you.`} You need not stay: the title of this page
            says when it is in your hand.
          </p>
          {free.length > 0 && (
            <p className="flex items-center gap-2 pt-3">
              <Pick
                narrow
                label="Another device"
                value={other}
                onChange={setOther}
                options={[
                  ["", "or take another…"],
                  ...free.map((d): [string, string] => [d.name, `${d.name}, ${d.model} ${d.os}`]),
                ]}
              />
              <button
                className="button"
                disabled={!other}
                onClick={() =>
                  void put<Session>(inProject(`sessions/${s.number}/device`), { device: other }).then(() =>
                    outdated(`sessions/${s.number}`),
                  )
                }
              >
                Take that
              </button>
            </p>
          )}
        </div>
      )}
      <About s={s} />
      <p className="pt-2">
        <button className="link text-sm" onClick={() => void navigate("/by-hand")}>
          Back to the devices
        </button>
      </p>
    </div>
  );
}

/** What the session is called and what it is for. */
export function About({ s }: { s: Session }) {
  const [name, setName] = useState(s.name);
  const [purpose, setPurpose] = useState(s.purpose);
  const [trouble, setTrouble] = useState<unknown>();
  const save = () => {
    if (name === s.name && purpose === s.purpose) return;
    patch<Session>(inProject(`sessions/${s.number}`), { name, purpose }).then(
      () => outdated(`sessions/${s.number}`, "sessions"),
      setTrouble,
    );
  };
  return (
    <form
      className="space-y-2 pt-3"
      onSubmit={(e) => {
        e.preventDefault();
        save();
      }}
    >
      <label className="block">
        <span className="text-sm text-soft">Name</span>
        <input
          className="field w-full"
          value={name}
          maxLength={200}
          onChange={(e) => setName(e.target.value)}
          onBlur={save}
          disabled={!s.mine}
        />
      </label>
      <label className="block">
        <span className="text-sm text-soft">What it is for</span>
        <textarea
          className="field h-16 w-full py-1"
          value={purpose}
          maxLength={2000}
          onChange={(e) => setPurpose(e.target.value)}
          onBlur={save}
          disabled={!s.mine}
        />
      </label>
      {trouble !== undefined && <Trouble of={trouble} />}
      <p className="text-sm text-soft">
        {s.asked_by}, since {at(s.created_at)}. Cleaning at the end: {s.cleaning}. Unused for {lasting(s.idle_ms)} it
        ends; left alone it is kept for {lasting(s.away_ms)}.
      </p>
      {s.origin && (
        <p className="text-sm">
          It repeats{" "}
          <Link className="link" to={`/runs/${s.origin.run}`}>
            run {s.origin.run}
          </Link>
          , “{s.origin.case}”, up to line {s.origin.line}: <code className="font-mono">{s.origin.step}</code>
        </p>
      )}
    </form>
  );
}
