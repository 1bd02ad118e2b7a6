import { DropdownMenu, Tabs } from "radix-ui";
import { useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import {
  inProject,
  outdated,
  patch,
  post,
  put,
  useGet,
  type Build,
  type Device,
  type SeenFault,
  type Session,
  type SessionEntry,
} from "../data/api";
import { useTitle } from "../data/live";
import { inHand, useShortcuts } from "../parts/shortcuts";
import {
  clock,
  LogBook,
  SessionLink,
  useShown,
  type Answer,
  type Box,
  type Card,
  type Node,
  type Order,
  type Shown,
  type TreeOf,
} from "../data/session";
import { at, lasting, plural } from "../data/time";
import { fetchFrom, handIn } from "../data/uploads";
import { CheckTab } from "../parts/checklist";
import { DeviceLog } from "../parts/device-log";
import { MenuItem } from "../parts/frame";
import { FindingLinks, Kept, TimeLine } from "../parts/kept";
import { Heading, Modal, Section, Trouble, Waiting } from "../parts/plain";
import { Screen } from "../parts/screen";
import { Pick } from "../parts/start";
import { Surroundings } from "../parts/surroundings";
import { stateWords } from "./by-hand";
import { Sure } from "../parts/sure";

/** A session: the device in hand while it is open, and what stays of it afterwards. */
export function SessionPage() {
  const number = Number(useParams().session);
  const one = useGet<Session>(`sessions/${number}`, { staleTime: 0 });
  if (one.error && !one.data)
    return (
      <div className="p-5">
        <Trouble of={one.error} retry={() => void one.refetch()} />
      </div>
    );
  if (!one.data)
    return (
      <div className="p-5">
        <Waiting what="the session" />
      </div>
    );
  return one.data.state === "closed" ? <Closed s={one.data} /> : <Open key={number} s={one.data} />;
}

function useEntries(number: number) {
  return useGet<SessionEntry[]>(`sessions/${number}/entries`, { staleTime: 0 });
}

function useLink(number: number): SessionLink | undefined {
  const [link, setLink] = useState<SessionLink>();
  useEffect(() => {
    const l = new SessionLink(number);
    setLink(l);
    return () => l.close();
  }, [number]);
  return link;
}

function Open({ s }: { s: Session }) {
  const link = useLink(s.number);
  return link ? <InHand s={s} link={link} /> : null;
}

const keyNames: Record<string, string> = { back: "Back", home: "Home" };

function InHand({ s, link }: { s: Session; link: SessionLink }) {
  const shown = useShown(link);
  const entries = useEntries(s.number);
  const [side, setSide] = useState("kept");
  const [looking, setLooking] = useState(false);
  const [card, setCard] = useState<{ card: Card; kept: boolean }>();
  const [marks, setMarks] = useState<Box[]>([]);
  const [said, setSaid] = useState<{ bad: boolean; text: string; hint?: string }>();
  const [log, setLog] = useState(() => localStorage.getItem("yamato.log") !== "folded");
  const [mark, setMark] = useState(false);
  const fade = useRef(0);
  const st = shown.status;
  const view = shown.view;
  const open = st?.stage === "open";
  const mine = shown.hands?.you ?? false;
  useTitle(`${open ? "In hand" : view?.waits ? "Waiting" : "Opening"}: ${view?.name ?? s.name}`);

  // What is dropped on this page is for this device.
  useEffect(() => {
    const built = (e: Event) => {
      const b = (e as CustomEvent<Build[]>).detail[0]; // what was dropped, and nothing else
      if (b) void link.order({ do: "install", name: `#${b.number}`, app: b.app });
    };
    window.addEventListener("yamato.handed-in", built);
    return () => window.removeEventListener("yamato.handed-in", built);
  }, [link]);

  const act = async (o: Order): Promise<Answer> => {
    setMarks([]);
    const a = await link.order(o);
    clearTimeout(fade.current);
    if (a.trouble) setSaid({ bad: true, text: a.trouble, hint: a.remedy });
    else if (a.text && o.do !== "card" && o.do !== "tree") setSaid({ bad: false, text: a.text });
    else if (said) setSaid(undefined);
    if (a.marks) setMarks(a.marks);
    fade.current = window.setTimeout(() => {
      setMarks([]);
      setSaid((x) => (x?.bad ? x : undefined));
    }, 4000);
    return a;
  };
  const onCard = (c: Card | undefined, keep: boolean) => {
    setCard((before) => (before?.kept && !keep && c ? before : c && { card: c, kept: keep }));
    setMarks(c ? [c.bounds] : []);
    if (c && keep) setSide("inside");
  };
  const picture = (name?: string, spot?: { x: number; y: number }) => void act({ do: "picture", name, at: spot });

  useShortcuts(
    inHand,
    {
      p: () => picture(),
      m: () => setMark(true),
      i: () => setLooking((l) => !l),
      d: () => document.querySelector<HTMLElement>("[aria-label^='Type into']")?.focus(),
      ":": () => document.getElementById("line")?.focus(),
    },
    { on: open },
  );

  return (
    <div className="flex h-full flex-col px-4 pt-3">
      <Head s={s} shown={shown} link={link}>
        {open && (
          <>
            {["back", "home"]
              .filter((k) => st.can.includes(k))
              .map((k) => (
                <button key={k} className="button" disabled={!mine} onClick={() => void act({ do: "press", text: k })}>
                  {keyNames[k]}
                </button>
              ))}
            {st.can.includes("rotation") && (
              <button
                className="button"
                disabled={!mine}
                onClick={() =>
                  void act({ do: "feel", name: "rotation", text: st.width > st.height ? "portrait" : "landscape" })
                }
              >
                Turn
              </button>
            )}
            <button className="button" aria-pressed={looking} onClick={() => setLooking(!looking)}>
              Look inside <kbd>I</kbd>
            </button>
            <button className="button" disabled={!mine} onClick={() => picture()}>
              Picture <kbd>P</kbd>
            </button>
            <button className="button" disabled={!mine} onClick={() => setMark(true)}>
              Mark <kbd>M</kbd>
            </button>
            <button
              className="button"
              aria-pressed={!!st.video}
              disabled={!mine}
              onClick={() => void act({ do: "video", on: !st.video })}
            >
              {st.video ? "Stop the video" : "Video"}
            </button>
          </>
        )}
      </Head>
      <Notices shown={shown} link={link} />
      {entries.data && open && <TimeLine entries={entries.data} until={st.began_ms} />}
      <div className="flex min-h-0 flex-1 gap-4">
        {open && st.apps.length === 0 ? (
          <div className="flex w-[30%] min-w-0 flex-none flex-col overflow-auto">
            <ToPutOn device={view?.device ?? ""} mine={mine} act={act} />
          </div>
        ) : log ? (
          <div className="flex w-[30%] min-w-0 flex-none flex-col">
            <DeviceLog book={link.log} app={st?.front} download={inProject(`sessions/${s.number}/log`)} />
          </div>
        ) : null}
        <div className="flex min-w-0 flex-1 flex-col pb-2">
          {open ? (
            <Screen
              link={link}
              shown={shown}
              device={view?.device ?? ""}
              looking={looking}
              marks={marks}
              act={act}
              onCard={onCard}
            />
          ) : (
            <Preparing shown={shown} s={s} />
          )}
          {st?.still && <p className="flex-none pt-1 text-center text-sm text-petrol">Single pictures: {st.still}</p>}
          <p
            role="status"
            className={`min-h-5 flex-none truncate pt-1 text-center text-sm ${said?.bad ? "text-vermilion" : "text-soft"}`}
            title={said?.text}
          >
            {st?.busy ? `${st.busy}…` : said ? `${said.text}${said.hint ? `. ${said.hint}` : ""}` : ""}
          </p>
          {open && <Prompt mine={mine} act={act} evaluates={st.can.includes("console")} />}
        </div>
        <Tabs.Root value={side} onValueChange={setSide} className="flex w-[31%] min-w-0 flex-none flex-col">
          <div className="flex flex-none items-baseline border-b border-strong">
            <Tabs.List aria-label="Beside the screen" className="flex min-w-0 flex-1 gap-2.5">
              {[
                ["kept", "Kept"],
                ["inside", "Inside"],
                ["feel", "Surroundings"],
                ["app", "Apps"],
                ["list", "Checklist"],
                ["about", "About"],
              ].map(([v, words]) => (
                <Tabs.Trigger
                  key={v}
                  value={v!}
                  className="border-b-2 border-transparent pb-1 text-soft data-[state=active]:border-ink data-[state=active]:font-medium data-[state=active]:text-ink"
                >
                  {words}
                  {v === "feel" && (st?.felt.length ?? 0) > 0 && ` (${st!.felt.length})`}
                </Tabs.Trigger>
              ))}
            </Tabs.List>
            <button
              className="link flex-none text-sm"
              onClick={() => {
                localStorage.setItem("yamato.log", log ? "folded" : "open");
                setLog(!log);
              }}
            >
              {log ? "Hide log" : "Show log"}
            </button>
          </div>
          <Tabs.Content value="kept" tabIndex={-1} className="min-h-0 flex-1 overflow-auto">
            {entries.data && <Kept session={s} entries={entries.data} follow />}
          </Tabs.Content>
          <Tabs.Content value="inside" tabIndex={-1} className="min-h-0 flex-1 overflow-auto pt-2">
            <Inside card={card?.card} link={link} act={act} picture={picture} onMark={(b) => setMarks(b ? [b] : [])} />
          </Tabs.Content>
          <Tabs.Content value="feel" tabIndex={-1} className="min-h-0 flex-1 overflow-auto pt-2">
            {st && <Surroundings number={s.number} status={st} act={act} />}
          </Tabs.Content>
          <Tabs.Content value="app" tabIndex={-1} className="min-h-0 flex-1 overflow-auto pt-2">
            <Apps shown={shown} act={act} />
          </Tabs.Content>
          <Tabs.Content value="list" tabIndex={-1} className="min-h-0 flex-1 overflow-auto pt-2">
            <CheckTab s={s} entries={entries.data ?? []} />
          </Tabs.Content>
          <Tabs.Content value="about" tabIndex={-1} className="min-h-0 flex-1 overflow-auto pt-2">
            <About s={s} />
          </Tabs.Content>
        </Tabs.Root>
      </div>
      {card && !card.kept && open && <Pointed card={card.card} />}
      <Modal title="Mark this moment" about="The screen is kept with it." open={mark} onClose={() => setMark(false)}>
        <Note
          go={(text) => {
            setMark(false);
            void act({ do: "mark", text });
          }}
        />
      </Modal>
    </div>
  );
}

/** The kinds of package that a device takes, by its platform and kind. */
const takes = (d: Device): string =>
  d.platform === "android"
    ? "android_package"
    : d.platform === "web"
      ? "web_bundle"
      : d.kind === "real"
        ? "ios_device"
        : "ios_simulator";

/** What could be put on a device that has no app yet: the builds that fit, a package, an address. */
function ToPutOn({ device, mine, act }: { device: string; mine: boolean; act: (o: Order) => Promise<Answer> }) {
  const one = useGet<Device>(`devices/${device}`, { enabled: device !== "" });
  const builds = useGet<{ items: Build[] }>("builds?limit=100");
  const [address, setAddress] = useState("");
  const [busy, setBusy] = useState("");
  const [trouble, setTrouble] = useState<unknown>();
  const kind = one.data && takes(one.data);
  const fit = (builds.data?.items ?? []).filter((b) => !b.removed_at && b.packages.some((p) => p.kind === kind));
  const install = (b: Build | undefined) => {
    if (!b) return Promise.resolve();
    setBusy(`Installing ${b.app} ${b.version_name}…`);
    return act({ do: "install", name: `#${b.number}`, app: b.app }).finally(() => setBusy(""));
  };
  const bring = (words: string, made: Promise<Build[]>) => {
    setTrouble(undefined);
    setBusy(words);
    void made
      .then(async ([b]) => void (await install(b)))
      .catch(setTrouble)
      .finally(() => setBusy(""));
  };
  return (
    <section aria-label="What to put on it" className="space-y-4 pr-1 pb-3">
      <div>
        <h2 className="border-b border-strong pb-1">Put an app on it</h2>
        {builds.isPending || one.isPending ? <Waiting what="the builds" /> : null}
        {kind && builds.data && fit.length === 0 && (
          <p className="pt-2 text-soft">
            No build has a package for{" "}
            {one.data.platform === "web" ? "handsets" : `this ${one.data.kind === "real" ? "phone" : one.data.kind}`}{" "}
            yet. Drop one anywhere on this page, or bring it below.
          </p>
        )}
        <ul>
          {fit.slice(0, 12).map((b) => (
            <li key={`${b.app}/${b.number}`} className="flex items-center gap-2 border-b border-rule py-1.5">
              <span className="min-w-0 flex-1 truncate">
                <b className="font-medium">{b.app}</b> {b.version_name}{" "}
                <span className="text-soft">({b.version_code})</span>
              </span>
              <button
                className="button h-6 px-2"
                disabled={!mine || busy !== ""}
                aria-label={`Install ${b.app} ${b.version_name}`}
                onClick={() => void install(b)}
              >
                Install
              </button>
            </li>
          ))}
        </ul>
        {fit.length > 12 && (
          <p className="pt-1 text-sm text-soft">{plural(fit.length - 12, "older build")} under Apps.</p>
        )}
      </div>
      <div className="space-y-1.5">
        <h2>Or bring one</h2>
        <label className="button relative h-7">
          Choose a package…
          <input
            type="file"
            className="sr-only"
            disabled={!mine || busy !== ""}
            onChange={(e) => {
              const files = [...(e.target.files ?? [])];
              e.target.value = "";
              if (files.length > 0) bring("Handing it in…", handIn(files));
            }}
          />
        </label>
        <form
          className="flex gap-1.5"
          onSubmit={(e) => {
            e.preventDefault();
            bring("The service fetches it…", fetchFrom([address]));
          }}
        >
          <input
            aria-label="Address"
            className="field min-w-0 flex-1"
            type="url"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
            placeholder={one.data?.platform === "web" ? "https://board.sorane.example/" : "https://…/app.apk"}
          />
          <button className="button" disabled={!mine || !address || busy !== ""}>
            Fetch
          </button>
        </form>
        <p role="status" className="min-h-5 text-sm text-soft">
          {busy}
        </p>
        {trouble !== undefined && <Trouble of={trouble} />}
      </div>
    </section>
  );
}

function Note({ go }: { go: (text: string) => void }) {
  const [text, setText] = useState("");
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        go(text);
      }}
      className="flex gap-2"
    >
      <input
        autoFocus
        aria-label="Note"
        className="field min-w-0 flex-1"
        maxLength={2000}
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder="What you see"
      />
      <button className="button button-main">Mark</button>
    </form>
  );
}

function Head({ s, shown, link, children }: { s: Session; shown: Shown; link: SessionLink; children: ReactNode }) {
  const [trouble, setTrouble] = useState<unknown>();
  const [sharing, setSharing] = useState(false);
  const view = shown.view;
  const hands = shown.hands;
  const share = (yes: boolean) =>
    patch<Session>(inProject(`sessions/${s.number}`), { shared: yes }).then(
      () => outdated(`sessions/${s.number}`),
      setTrouble,
    );
  return (
    <header className="flex flex-none flex-wrap items-center gap-x-3 gap-y-1.5 pb-2">
      <div className="min-w-0 flex-1">
        <h1 className="truncate text-lg leading-6">{view?.name ?? s.name}</h1>
        <p className="truncate text-soft">
          {view?.device || s.wanted}
          {s.model && `, ${s.model}, ${s.os}`}
          {s.build && `, ${s.build}`}
          {view && view.state !== "open" && `, ${stateWords[view.state]}`}
          {hands &&
            hands.watching.length > 1 &&
            `, watched by ${hands.watching.filter((w) => w !== hands.by).join(", ")}`}
        </p>
      </div>
      <div className="flex flex-wrap items-center gap-1.5">
        {children}
        <DropdownMenu.Root>
          <DropdownMenu.Trigger className="button">More</DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" sideOffset={6} className="card z-50 min-w-56 py-1">
              {s.mine && (
                <MenuItem onSelect={() => void share(!s.shared)}>
                  {s.shared ? "Let nobody else look on" : "Let others look on"}
                </MenuItem>
              )}
              <MenuItem onSelect={() => setSharing(true)}>Link to watch along</MenuItem>
              {!hands?.you && (
                <MenuItem onSelect={() => link.say({ hand: s.mine ? "take" : "ask" })}>
                  {s.mine ? "Take it back in hand" : "Ask for the device"}
                </MenuItem>
              )}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
        {s.mine && (
          <Sure
            question={`End session ${s.number}?`}
            more="Its device is cleaned and given back: what is on it is gone. The record stays."
            does="End it"
            onYes={() =>
              void post<Session>(inProject(`sessions/${s.number}/end`), {}).then(
                () => outdated(`sessions/${s.number}`),
                setTrouble,
              )
            }
          >
            <button className="button button-main">{view?.ending ? "Ending…" : "End"}</button>
          </Sure>
        )}
      </div>
      {trouble !== undefined && (
        <div className="basis-full">
          <Trouble of={trouble} />
        </div>
      )}
      <Modal
        title="Watch along"
        about={
          s.shared
            ? "Whoever is signed in to this project can look on, and ask for the device."
            : "Nobody else may look on yet: let them, and hand on the link."
        }
        open={sharing}
        onClose={() => setSharing(false)}
      >
        <p className="flex items-center gap-2">
          <code className="command min-w-0 flex-1 truncate">{`${location.origin}/by-hand/${s.number}`}</code>
          <button
            className="button"
            onClick={() => void navigator.clipboard?.writeText(`${location.origin}/by-hand/${s.number}`)}
          >
            Copy
          </button>
        </p>
        {!s.shared && s.mine && (
          <button className="button mt-3" onClick={() => void share(true)}>
            Let others look on
          </button>
        )}
      </Modal>
    </header>
  );
}

/** What wants attention: a lost connection, an end that comes near, somebody who asks. */
function Notices({ shown, link }: { shown: Shown; link: SessionLink }) {
  const { view, hands } = shown;
  const list: ReactNode[] = [];
  if (!shown.connected && !shown.closed)
    list.push(
      <>The connection was lost at {at(shown.since)}. The device is kept for you; this page goes on by itself.</>,
    );
  if (view?.lost)
    list.push(
      <>
        The device’s host is not heard. What was kept until now is safe; the device is cleaned as soon as its host is
        back.
      </>,
    );
  if (view && view.ends_in_ms > 0)
    list.push(
      <>
        Nobody has used the device for a while: the session ends in {lasting(view.ends_in_ms)}.{" "}
        <button className="link font-medium" onClick={() => link.say({ keep: true })}>
          Keep it
        </button>
      </>,
    );
  if (view?.ending) list.push(<>It is ending: {view.ending}. The device is being cleaned.</>);
  if (hands && !hands.you && hands.by)
    list.push(
      <>
        {hands.by} has the device in hand; you look on.{" "}
        <button className="link font-medium" onClick={() => link.say({ hand: "ask" })}>
          Ask for it
        </button>
      </>,
    );
  if (hands?.you)
    for (const who of hands.asking)
      list.push(
        <>
          {who} asks for the device.{" "}
          <button className="link font-medium" onClick={() => link.say({ hand: "give", to: who })}>
            Hand it over
          </button>{" "}
          <button className="link" onClick={() => link.say({ hand: "keep" })}>
            Keep it
          </button>
        </>,
      );
  return (
    <>
      {list.map((n, i) => (
        <p key={i} role="status" className="mb-1.5 flex-none bg-petrol-wash px-3 py-1 text-petrol">
          {n}
        </p>
      ))}
    </>
  );
}

/** While the device is made ready: what is done, and what it is for. */
function Preparing({ shown, s }: { shown: Shown; s: Session }) {
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
function About({ s }: { s: Session }) {
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

// Where the pointer is: what is told of a place comes a moment after it was asked for.
const pointer = { x: 0, y: 0 };
window.addEventListener("mousemove", (e) => Object.assign(pointer, { x: e.clientX, y: e.clientY }), { passive: true });

/** The card at the pointer. */
function Pointed({ card }: { card: Card }) {
  const [at, setAt] = useState(pointer);
  useEffect(() => {
    const move = () => setAt({ ...pointer });
    window.addEventListener("mousemove", move);
    return () => window.removeEventListener("mousemove", move);
  }, []);
  const right = at.x > innerWidth - 380;
  const low = at.y > innerHeight - 190;
  return (
    <div
      aria-hidden="true"
      className="card pointer-events-none fixed z-30 w-88 px-3 py-2"
      style={{ left: right ? at.x - 372 : at.x + 16, top: low ? at.y - 150 : at.y + 16 }}
    >
      <CardHead c={card} />
      {card.lines.slice(0, 3).map((l) => (
        <p key={l} className="truncate font-mono text-sm">
          {l}
        </p>
      ))}
      {card.lines.length === 0 && <p className="text-sm text-soft">Nothing finds this element alone.</p>}
    </div>
  );
}

function CardHead({ c }: { c: Card }) {
  return (
    <>
      <p className="truncate">
        <b className="font-semibold">{c.role || "text"}</b>
        {c.label && ` “${c.label}”`}
      </p>
      <p className="text-sm text-soft">
        {c.id && <code className="font-mono">#{c.id}</code>} {Math.round(c.bounds.w)} × {Math.round(c.bounds.h)} dp
        {c.states.length > 0 && `; ${c.states.join(", ")}`}
      </p>
    </>
  );
}

type InsideProps = {
  card?: Card;
  link: SessionLink;
  act: (o: Order) => Promise<Answer>;
  picture: (name?: string, at?: { x: number; y: number }) => void;
  onMark: (b?: Box) => void;
};

/** Looking inside: the element that was pointed at, and the whole tree when asked. */
function Inside({ card, link, act, picture, onMark }: InsideProps) {
  const [tree, setTree] = useState<TreeOf>();
  const [copied, setCopied] = useState("");
  const centre = (b: Box) => ({ x: b.x + b.w / 2, y: b.y + b.h / 2 });
  return (
    <div className="space-y-3">
      {card ? (
        <div>
          {card.path.length > 0 && <p className="text-sm break-words text-faint">{card.path.join(" › ")}</p>}
          <CardHead c={card} />
          <ul className="mt-1 border-t border-rule pt-1">
            {card.lines.map((l) => (
              <li key={l} className="flex items-baseline gap-2 py-0.5">
                <code className="min-w-0 flex-1 font-mono text-sm break-words">{l}</code>
                <button className="link flex-none text-sm" onClick={() => void act({ do: "line", text: l })}>
                  do it
                </button>
                <button
                  className="link flex-none text-sm"
                  onClick={() => void navigator.clipboard?.writeText(l).then(() => setCopied(l))}
                >
                  {copied === l ? "copied" : "copy"}
                </button>
              </li>
            ))}
          </ul>
          {card.locators.length > 1 && (
            <p className="text-sm text-soft">Also found by {card.locators.slice(1, 5).join(", ")}.</p>
          )}
          <button className="button mt-2 h-6" onClick={() => picture(card.label || card.id, centre(card.bounds))}>
            Picture of it
          </button>
        </div>
      ) : (
        <p className="text-sm text-soft">
          Rest the pointer on the screen to see what is there. With <b>Look inside</b> on, a click keeps the card here;
          a right click does so at any time.
        </p>
      )}
      <p>
        <button className="button h-6" onClick={() => void link.order({ do: "tree" }).then((a) => setTree(a.tree))}>
          {tree ? "Read the tree again" : "Show the whole tree"}
        </button>
      </p>
      {tree && <Tree tree={tree} onMark={onMark} tap={(n) => void act({ do: "tap", at: centre(n.visible) })} />}
    </div>
  );
}

/** The screen tree, walked with the arrow keys; Enter touches what is chosen. */
function Tree({ tree, onMark, tap }: { tree: TreeOf; onMark: (b?: Box) => void; tap: (n: Node) => void }) {
  const rows = useMemo(() => {
    const out: { n: Node; depth: number }[] = [];
    const walk = (n: Node, depth: number) => {
      const named = n.role || n.id || n.text || n.name;
      if (named && n.visible.w > 0) out.push({ n, depth });
      for (const c of n.children ?? []) walk(c, named ? depth + 1 : depth);
    };
    walk(tree.root, 0);
    return out.slice(0, 3000);
  }, [tree]);
  const [at, setAt] = useState(0);
  const go = (i: number) => {
    const to = Math.max(0, Math.min(rows.length - 1, i));
    setAt(to);
    onMark(rows[to]?.n.visible);
    document.getElementById(`inside-${to}`)?.scrollIntoView({ block: "nearest" });
  };
  return (
    <div
      role="tree"
      aria-label="Screen tree"
      tabIndex={0}
      aria-activedescendant={`inside-${at}`}
      className="max-h-96 overflow-auto text-sm"
      onFocus={() => go(at)}
      onKeyDown={(e) => {
        const next = { ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: rows.length - 1 }[e.key];
        if (next !== undefined) {
          e.preventDefault();
          go(next);
        } else if (e.key === "Enter" && rows[at]) {
          e.preventDefault();
          tap(rows[at].n);
        }
      }}
    >
      {rows.map(({ n, depth }, i) => (
        <div
          key={i}
          id={`inside-${i}`}
          role="treeitem"
          aria-level={depth + 1}
          aria-selected={i === at}
          className={`truncate ${i === at ? "bg-picked" : ""}`}
          style={{ paddingLeft: Math.min(depth, 12) * 10 }}
          onMouseEnter={() => onMark(n.visible)}
          onClick={() => go(i)}
        >
          {n.role || "text"} {n.id && <code className="font-mono">#{n.id}</code>}{" "}
          <span className="text-soft">{n.name || n.value || n.text}</span>
        </div>
      ))}
    </div>
  );
}

/** One line of script, or of the app's console, and what came of it. */
function Prompt({ mine, act, evaluates }: { mine: boolean; act: (o: Order) => Promise<Answer>; evaluates: boolean }) {
  const [text, setText] = useState("");
  const [how, setHow] = useState("line");
  const [past, setPast] = useState<string[]>([]);
  const [back, setBack] = useState(0);
  const [busy, setBusy] = useState(false);
  return (
    <form
      className="flex flex-none items-center gap-1.5"
      onSubmit={(e) => {
        e.preventDefault();
        if (!text.trim() || busy) return;
        setBusy(true);
        setPast([text, ...past].slice(0, 100));
        setBack(0);
        void act({ do: how, text }).then((a) => {
          setBusy(false);
          if (!a.trouble) setText("");
        });
      }}
    >
      {evaluates && (
        <Pick
          narrow
          label="What the line is"
          value={how}
          onChange={setHow}
          options={[
            ["line", "script"],
            ["evaluate", "app console"],
          ]}
        />
      )}
      <input
        id="line"
        aria-label={how === "line" ? "One line of script" : "An expression for the app's console"}
        className="field min-w-0 flex-1 font-mono"
        placeholder={how === "line" ? 'tap "Continue"' : "document.title"}
        value={text}
        disabled={!mine}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          const to = e.key === "ArrowUp" ? back + 1 : e.key === "ArrowDown" ? back - 1 : undefined;
          if (to === undefined) return;
          e.preventDefault();
          const at = Math.max(0, Math.min(past.length, to));
          setBack(at);
          setText(at === 0 ? "" : past[at - 1]!);
        }}
      />
      <button className="button" disabled={!mine || busy || !text.trim()}>
        {busy ? "…" : "Do it"}
      </button>
    </form>
  );
}

/** The apps of the session: another build, an update, start, stop, empty, remove, a link. */
function Apps({ shown, act }: { shown: Shown; act: (o: Order) => Promise<Answer> }) {
  const builds = useGet<{ items: Build[] }>("builds?limit=50");
  const [build, setBuild] = useState("");
  const [fresh, setFresh] = useState(false);
  const [link, setLink] = useState("");
  const [busy, setBusy] = useState("");
  const apps = shown.status?.apps ?? [];
  const items = builds.data?.items ?? [];
  const key = (b: Build) => `${b.app}/${b.number}`;
  const install = (b: Build | undefined) => b && act({ do: "install", name: `#${b.number}`, app: b.app, on: fresh });
  return (
    <div className="space-y-3 pb-3">
      {apps.length === 0 && <p className="text-sm text-soft">No app has been put on the device in this session.</p>}
      <ul>
        {apps.map((a) => (
          <li key={a.id} className="border-b border-rule py-1.5">
            <p>
              <b className="font-medium">{a.name || a.id}</b> {a.version}{" "}
              {shown.status?.front === a.id && <span className="chip">in front</span>}{" "}
              {a.there && <span className="chip">was there before</span>}
            </p>
            <p className="text-sm text-faint">{a.id}</p>
            <div className="flex flex-wrap gap-1.5 pt-1">
              {[
                ["start", "Start"],
                ["stop", "Stop"],
                ["empty", "Empty and start"],
                ...(a.there ? [] : [["remove", "Remove"]]),
              ].map(([does, words]) => (
                <button key={does} className="button h-6 px-2" onClick={() => void act({ do: does!, app: a.id })}>
                  {words}
                </button>
              ))}
            </div>
          </li>
        ))}
      </ul>
      <div className="space-y-1.5">
        <h2>Install a build</h2>
        <div className="flex flex-wrap items-center gap-1.5">
          <Pick
            narrow
            label="Build"
            value={build}
            onChange={setBuild}
            options={[
              ["", "choose a build…"],
              ...items.map((b): [string, string] => [key(b), `${b.app} ${b.version_name}`]),
            ]}
          />
          <button
            className="button h-7"
            disabled={!build}
            onClick={() => void install(items.find((b) => key(b) === build))}
          >
            Install
          </button>
          <label className="flex items-center gap-1 text-sm">
            <input type="checkbox" checked={fresh} onChange={(e) => setFresh(e.target.checked)} /> with its data gone
          </label>
        </div>
        <label className="button relative h-7">
          {busy || "Hand in a package and install it…"}
          <input
            type="file"
            className="sr-only"
            onChange={(e) => {
              const files = [...(e.target.files ?? [])];
              e.target.value = "";
              if (files.length === 0) return;
              setBusy("Handing it in…");
              void handIn(files)
                .then(([b]) => install(b))
                .finally(() => setBusy(""));
            }}
          />
        </label>
      </div>
      <form
        className="space-y-1.5"
        onSubmit={(e) => {
          e.preventDefault();
          void act({ do: "link", app: shown.status?.front || apps[0]?.id, text: link });
        }}
      >
        <h2>Follow a link</h2>
        <div className="flex gap-1.5">
          <input
            aria-label="Link"
            className="field min-w-0 flex-1"
            value={link}
            onChange={(e) => setLink(e.target.value)}
            placeholder="tideline://tickets"
          />
          <button className="button" disabled={!link}>
            Follow
          </button>
        </div>
      </form>
    </div>
  );
}

/** What stays of a session. */
function Closed({ s }: { s: Session }) {
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
