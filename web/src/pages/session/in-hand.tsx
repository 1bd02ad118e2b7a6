import { Tabs } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { inProject, type Build, type Session } from "../../data/api";
import { useTitle } from "../../data/live";
import { inHand, useShortcuts } from "../../parts/shortcuts";
import { SessionLink, useShown, type Answer, type Box, type Card, type Order } from "../../data/session";
import { CheckTab } from "../../parts/checklist";
import { DeviceLog } from "../../parts/device-log";
import { Kept, TimeLine } from "../../parts/kept";
import { Modal } from "../../parts/plain";
import { Screen } from "../../parts/screen";
import { Surroundings } from "../../parts/surroundings";
import { Apps } from "./apps";
import { Head, Notices } from "./head";
import { Inside, Pointed } from "./inside";
import { About, Preparing } from "./preparing";
import { Prompt } from "./prompt";
import { Note, ToPutOn } from "./put-on";
import { useEntries } from "./entries";

const keyNames: Record<string, string> = { back: "Back", home: "Home" };

function useLink(number: number): SessionLink | undefined {
  const [link, setLink] = useState<SessionLink>();
  useEffect(() => {
    const l = new SessionLink(number);
    setLink(l);
    return () => l.close();
  }, [number]);
  return link;
}

export function Open({ s }: { s: Session }) {
  const link = useLink(s.number);
  return link ? <InHand s={s} link={link} /> : null;
}

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
