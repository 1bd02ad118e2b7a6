import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import {
  get,
  inProject,
  Problem,
  problemOf,
  put,
  useGet,
  type Device,
  type SavedPlace,
  type Surrounding,
} from "../data/api";
import type { Answer, Order, Status } from "../data/session";
import { Pick } from "./start/pick";

type Props = { number: number; status: Status; act: (o: Order) => Promise<Answer> };

/** What the device can be made to feel, what it has been made to, and what it cannot: a control for each row of the
 * service's table. */
export function Surroundings({ number, status, act }: Props) {
  const feel: Feel = (name, text, args) =>
    act({
      do: "feel",
      name,
      ...(text !== undefined ? { text } : {}),
      ...(args ? { args } : {}),
      ...(name === "push" ? { app: status.front } : {}),
    });
  const table = useQuery<Surrounding[], Problem>({
    queryKey: ["surroundings"],
    queryFn: () => get<Surrounding[]>("/api/v1/surroundings"),
    staleTime: Infinity,
  });
  const all = useGet<Device[]>("devices", { staleTime: 60_000 });
  const kinds = (ability: string) => [
    ...new Set(
      (all.data ?? []).filter((d) => d.abilities.includes(ability)).map((d) => `${d.kind}s for ${d.platform}`),
    ),
  ];
  const rows = table.data ?? [];
  const cannot = [...new Set(rows.map((r) => r.ability))].filter((a) => !status.can.includes(a));
  const labels = [...new Set(rows.filter((r) => status.can.includes(r.ability)).map((r) => r.label))];
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
                <button
                  className="link flex-none"
                  aria-label={`Undo: ${f.words}`}
                  onClick={() => void act({ do: "undo", name: f.what })}
                >
                  undo
                </button>
              </li>
            ))}
          </ul>
        </div>
      ) : (
        <p className="text-sm text-soft">
          Nothing has been changed. What you change here is undone when the session ends.
        </p>
      )}
      {table.error && (
        <p className="text-sm text-vermilion">
          What it can be made to feel is not known: {table.error.message}{" "}
          <button className="link" onClick={() => void table.refetch()}>
            Ask again
          </button>
        </p>
      )}
      {labels.map((label) => {
        const of = rows.filter((r) => r.label === label);
        if (of[0]!.name === "files") return <Files key={label} number={number} feel={feel} />;
        return (
          <Control
            key={label}
            of={of}
            feel={feel}
            also={of[0]!.name === "place" ? (level) => <Places level={level} feel={feel} /> : undefined}
          />
        );
      })}
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

type Feel = (name: string, level?: string, args?: unknown) => Promise<Answer>;

function Row({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex items-start gap-2" role="group" aria-label={name}>
      <span className="w-20 flex-none pt-0.5 text-sm text-soft">{name}</span>
      <div className="flex min-w-0 flex-1 flex-wrap items-center gap-1.5">{children}</div>
    </div>
  );
}

/** The control of a surrounding: its choices, and a field for other levels. Several of one label, as permissions are,
 * have one control. */
function Control({ of, feel, also }: { of: Surrounding[]; feel: Feel; also?: (level: string) => ReactNode }) {
  const [name, setName] = useState(of[0]!.name);
  const [level, setLevel] = useState("");
  const row = of.find((r) => r.name === name) ?? of[0]!;
  const short = (r: Surrounding) => r.name.slice(r.label.length).trim();
  return (
    <Row name={row.label}>
      {of.length > 1 && (
        <Pick
          narrow
          label={row.label}
          value={row.name}
          onChange={setName}
          options={of.map((r): [string, string] => [r.name, short(r)])}
        />
      )}
      {row.choices.map((c) => (
        <button key={c.words} className="button h-6 px-2" onClick={() => void feel(row.name, c.level)}>
          {c.words}
        </button>
      ))}
      {row.open && (
        <form
          className="flex min-w-40 flex-1 gap-1.5"
          onSubmit={(e) => {
            e.preventDefault();
            void feel(row.name, level || (row.example ?? ""));
          }}
        >
          <input
            aria-label={`${row.label}: ${row.about}`}
            title={row.about}
            className="field h-6 min-w-0 flex-1"
            placeholder={row.example}
            value={level}
            onChange={(e) => setLevel(e.target.value)}
          />
          <button className="button h-6 px-2">{row.verb}</button>
        </form>
      )}
      {also?.(level || (row.example ?? ""))}
    </Row>
  );
}

/** Places that the project keeps, and ways to travel. */
function Places({ level, feel }: { level: string; feel: Feel }) {
  const places = useGet<SavedPlace[]>("places");
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [speed, setSpeed] = useState("20");
  const [wrong, setWrong] = useState("");
  const kept = places.data ?? [];
  const keep = async () => {
    const [latitude, longitude] = level.split(",").map(Number);
    try {
      await put(inProject("places"), { name, latitude, longitude });
      await client.invalidateQueries({ queryKey: ["places"] });
      setName("");
      setWrong("");
    } catch (e) {
      setWrong(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <>
      {kept.length > 0 && (
        <Pick
          narrow
          label="Saved places"
          value=""
          onChange={(v) => {
            const p = kept.find((k) => k.name === v);
            if (p) void feel("place", `${p.latitude}, ${p.longitude}`, { name: p.name });
          }}
          options={[["", "saved places…"], ...kept.map((k): [string, string] => [k.name, k.name])]}
        />
      )}
      <form
        className="flex gap-1.5"
        onSubmit={(e) => {
          e.preventDefault();
          if (name) void keep();
        }}
      >
        <input
          aria-label="Name to keep this place under"
          placeholder="keep it as…"
          className="field h-6 w-28"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
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
              if (f) void f.text().then((gpx) => feel("route", undefined, { gpx, speed: Number(speed) / 3.6 }));
            }}
          />
        </label>
        at
        <input
          aria-label="Speed in km/h"
          className="field h-6 w-12"
          inputMode="decimal"
          value={speed}
          onChange={(e) => setSpeed(e.target.value)}
        />
        km/h
      </span>
      {wrong && <span className="basis-full text-sm text-vermilion">{wrong}</span>}
    </>
  );
}

function Files({ number, feel }: { number: number; feel: Feel }) {
  const [trouble, setTrouble] = useState("");
  const hand = async (list: FileList) => {
    setTrouble("");
    const digests: string[] = [];
    for (const f of list) {
      const r = await fetch(inProject(`sessions/${number}/files`), {
        method: "POST",
        headers: { "Content-Type": "application/octet-stream" },
        body: f,
        credentials: "same-origin",
      });
      if (!r.ok) return setTrouble((await problemOf(r)).message);
      digests.push(((await r.json()) as { digest: string }).digest);
    }
    await feel("files", undefined, { digests });
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
