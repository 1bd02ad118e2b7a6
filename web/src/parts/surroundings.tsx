import { useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { inProject, problemOf, put, useGet, type Device, type SavedPlace } from "../data/api";
import type { Answer, Order, Status } from "../data/session";
import { Pick } from "./start";

type Props = { number: number; status: Status; act: (o: Order) => Promise<Answer> };

/** What the device can be made to feel, what it has been made to, and what it cannot. */
export function Surroundings({ number, status, act }: Props) {
  const feel = (name: string, args: unknown) => act({ do: "feel", name, args });
  const can = (a: string) => status.can.includes(a);
  const all = useGet<Device[]>("devices", { staleTime: 60_000 });
  const kinds = (ability: string) => [...new Set((all.data ?? []).filter((d) => d.abilities.includes(ability)).map((d) => `${d.kind}s for ${d.platform}`))];
  const groups = ["rotation", "appearance", "text size", "language", "time zone", "place", "network", "battery", "motion", "push", "permissions", "files", "clipboard", "away"];
  const cannot = groups.filter((g) => !can(g));
  return (
    <div className="space-y-3 pb-3">
      {status.felt.length > 0 ? (
        <div className="border-l-2 border-ink bg-wash px-2.5 py-1.5">
          <p className="flex items-baseline justify-between font-medium">
            Changed in this session
            <button className="link text-sm font-normal" onClick={() => void act({ do: "undo" })}>
              Undo all
            </button>
          </p>
          <ul>
            {status.felt.map((f) => (
              <li key={f.what} className="flex items-baseline justify-between gap-2 text-sm">
                <span className="min-w-0">It {f.words}.</span>
                <button className="link flex-none" aria-label={`Undo: ${f.words}`} onClick={() => void act({ do: "undo", name: f.what })}>
                  undo
                </button>
              </li>
            ))}
          </ul>
        </div>
      ) : (
        <p className="text-sm text-soft">Nothing has been changed. What you change here is undone when the session ends.</p>
      )}
      {can("rotation") && (
        <Row name="Held">
          <Choose of={[["upright", () => feel("rotation", { to: "portrait" })], ["across", () => feel("rotation", { to: "landscape" })]]} />
        </Row>
      )}
      {can("appearance") && (
        <Row name="Appearance">
          <Choose of={[["light", () => feel("appearance", { dark: false })], ["dark", () => feel("appearance", { dark: true })]]} />
        </Row>
      )}
      {can("text size") && (
        <Row name="Text">
          <Choose of={[85, 100, 130, 200].map((p) => [`${p} %`, () => feel("text size", { percent: p })])} />
        </Row>
      )}
      {can("language") && <Entry name="Language" label="Language, as BCP 47 names it" usual="de-DE" does="Set" go={(tag) => feel("language", { tag })} />}
      {can("time zone") && <Entry name="Time zone" label="Time zone, as IANA names it" usual="Asia/Tokyo" does="Set" go={(name) => feel("time zone", { name })} />}
      {can("network") && (
        <Row name="Network">
          <Choose of={["normal", "slow", "none"].map((kind) => [kind, () => feel("network", { kind })])} />
        </Row>
      )}
      {can("battery") && <Battery feel={feel} />}
      {can("place") && <Place feel={feel} />}
      {can("motion") && <Motion feel={feel} />}
      {can("push") && <Entry name="Push" label="Message to push" usual="Your ferry leaves in 10 minutes" does="Push" go={(message) => feel("push", { app: status.front, message })} />}
      {can("permissions") && <Permissions feel={feel} />}
      {can("clipboard") && <Entry name="Clipboard" label="Text for the clipboard" usual="Text" does="Copy" go={(text) => feel("clipboard", { text })} />}
      {can("files") && <Files number={number} feel={feel} />}
      {can("away") && (
        <Row name="App">
          <button className="button h-6" onClick={() => void feel("away", {})}>
            Send it away
          </button>
        </Row>
      )}
      {cannot.length > 0 && (
        <div className="border-t border-rule pt-2 text-sm text-soft">
          <p className="font-medium">This device cannot be made to feel</p>
          <ul>
            {cannot.map((g) => (
              <li key={g}>
                {g}: {kinds(g).length > 0 ? `${kinds(g).slice(0, 3).join(", ")} can` : "no device of the fleet can"}
              </li>
            ))}
          </ul>
        </div>
      )}
    </div>
  );
}

type Feel = (name: string, args: unknown) => Promise<Answer>;

function Row({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex items-center gap-2" role="group" aria-label={name}>
      <span className="w-20 flex-none text-sm text-soft">{name}</span>
      <div className="flex min-w-0 flex-1 flex-wrap items-center gap-1.5">{children}</div>
    </div>
  );
}

function Choose({ of }: { of: [string, () => void][] }) {
  return (
    <>
      {of.map(([words, go]) => (
        <button key={words} className="button h-6 px-2" onClick={go}>
          {words}
        </button>
      ))}
    </>
  );
}

function Entry({ name, label, usual, does, go }: { name: string; label: string; usual: string; does: string; go: (v: string) => Promise<Answer> }) {
  const [v, setV] = useState("");
  return (
    <Row name={name}>
      <form
        className="flex min-w-0 flex-1 gap-1.5"
        onSubmit={(e) => {
          e.preventDefault();
          void go(v || usual);
        }}
      >
        <input aria-label={label} className="field h-6 min-w-0 flex-1" placeholder={usual} value={v} onChange={(e) => setV(e.target.value)} />
        <button className="button h-6 px-2">{does}</button>
      </form>
    </Row>
  );
}

function Battery({ feel }: { feel: Feel }) {
  const [percent, setPercent] = useState(15);
  const [charging, setCharging] = useState(false);
  return (
    <Row name="Battery">
      <input type="range" min={1} max={100} value={percent} aria-label="Percent of the battery" className="w-24" onChange={(e) => setPercent(Number(e.target.value))} />
      <span className="w-9 text-right text-sm">{percent} %</span>
      <label className="flex items-center gap-1 text-sm">
        <input type="checkbox" checked={charging} onChange={(e) => setCharging(e.target.checked)} /> charging
      </label>
      <button className="button h-6 px-2" onClick={() => void feel("battery", { percent, charging })}>
        Set
      </button>
    </Row>
  );
}

function Place({ feel }: { feel: Feel }) {
  const places = useGet<SavedPlace[]>("places");
  const client = useQueryClient();
  const [where, setWhere] = useState("38.70590, -9.14440");
  const [name, setName] = useState("");
  const [speed, setSpeed] = useState("20");
  const [wrong, setWrong] = useState("");
  const read = () => {
    const m = /^\s*(-?\d+(?:\.\d+)?)\s*[,; ]\s*(-?\d+(?:\.\d+)?)\s*$/.exec(where);
    setWrong(m ? "" : "Latitude and longitude, in degrees: 38.7059, -9.1444");
    return m && { latitude: Number(m[1]), longitude: Number(m[2]) };
  };
  const kept = places.data ?? [];
  return (
    <Row name="Place">
      <input aria-label="Latitude and longitude, in degrees" aria-invalid={wrong !== ""} className="field h-6 w-40" value={where} onChange={(e) => setWhere(e.target.value)} />
      <button
        className="button h-6 px-2"
        onClick={() => {
          const p = read();
          if (p) void feel("place", p);
        }}
      >
        Be there
      </button>
      <button className="button h-6 px-2" onClick={() => void feel("place", { none: true })}>
        nowhere
      </button>
      {kept.length > 0 && (
        <Pick
          narrow
          label="Saved places"
          value=""
          onChange={(v) => {
            const p = kept.find((k) => k.name === v);
            if (p) void feel("place", p);
          }}
          options={[["", "saved places…"], ...kept.map((k): [string, string] => [k.name, k.name])]}
        />
      )}
      <form
        className="flex gap-1.5"
        onSubmit={(e) => {
          e.preventDefault();
          const p = read();
          if (p && name) void put(inProject("places"), { name, ...p }).then(() => client.invalidateQueries({ queryKey: ["places"] })).then(() => setName(""));
        }}
      >
        <input aria-label="Name to keep this place under" placeholder="keep it as…" className="field h-6 w-28" value={name} onChange={(e) => setName(e.target.value)} />
        <button className="button h-6 px-2" disabled={!name}>
          Keep
        </button>
      </form>
      <span className="flex items-center gap-1.5 text-sm">
        <label className="button relative h-6 px-2">
          Travel a GPX track…
          <input
            type="file"
            accept=".gpx,application/gpx+xml"
            className="sr-only"
            onChange={(e) => {
              const f = e.target.files?.[0];
              e.target.value = "";
              if (f) void f.text().then((gpx) => feel("route", { gpx, speed: Number(speed) / 3.6 }));
            }}
          />
        </label>
        at
        <input aria-label="Speed in km/h" className="field h-6 w-12" inputMode="decimal" value={speed} onChange={(e) => setSpeed(e.target.value)} />
        km/h
      </span>
      {wrong && <span className="basis-full text-sm text-vermilion">{wrong}</span>}
    </Row>
  );
}

function Motion({ feel }: { feel: Feel }) {
  return (
    <Row name="Motion">
      <Choose
        of={[
          ["shake", () => feel("shake", {})],
          ["tilt left", () => feel("tilt", { alpha: 0, beta: 0, gamma: -30 })],
          ["tilt right", () => feel("tilt", { alpha: 0, beta: 0, gamma: 30 })],
          ["stand up", () => feel("tilt", { alpha: 0, beta: 90, gamma: 0 })],
          ["lie flat", () => feel("tilt", { alpha: 0, beta: 0, gamma: 0 })],
        ]}
      />
    </Row>
  );
}

function Permissions({ feel }: { feel: Feel }) {
  const [permission, setPermission] = useState("location");
  return (
    <Row name="Permission">
      <Pick narrow label="Permission" value={permission} onChange={setPermission} options={["camera", "location", "microphone", "motion", "notifications"].map((p): [string, string] => [p, p])} />
      <Choose of={["allow", "deny", "ask"].map((answer) => [answer, () => feel("permission", { permission, answer })])} />
    </Row>
  );
}

function Files({ number, feel }: { number: number; feel: Feel }) {
  const [trouble, setTrouble] = useState("");
  const hand = async (list: FileList) => {
    setTrouble("");
    const digests: string[] = [];
    for (const f of list) {
      const r = await fetch(inProject(`sessions/${number}/files`), { method: "POST", headers: { "Content-Type": "application/octet-stream" }, body: f, credentials: "same-origin" });
      if (!r.ok) return setTrouble((await problemOf(r)).message);
      digests.push(((await r.json()) as { digest: string }).digest);
    }
    await feel("files", { digests });
  };
  return (
    <Row name="Files">
      <label className="button relative h-6 px-2">
        Give files to choose from…
        <input type="file" multiple className="sr-only" onChange={(e) => e.target.files && void hand(e.target.files)} />
      </label>
      {trouble && <span className="text-sm text-vermilion">{trouble}</span>}
    </Row>
  );
}
