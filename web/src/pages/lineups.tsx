import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { inProject, outdated, post, put, remove, useGet, Problem, type Choice, type Lineup } from "../data/api";
import { useFleet } from "../data/live";
import { at, plural } from "../data/time";
import { undo } from "../data/undo";
import { systemName } from "../data/weave";
import { Editor } from "../parts/editor";
import { useStart } from "../parts/use-start";
import { Command, Heading, Section, Trouble, Waiting } from "../parts/plain";
import { anyway, Sure } from "../parts/sure";

const example = `lineup: new lineup
about: two phones of each platform, the newest system first
pick:
  - {platform: android, form: phone, os: 13..}
  - {platform: ios, form: phone}
take: 4
first: [spread, newest_os, least_used]
`;

/** Saved rules that choose devices, and what each takes now. */
export function LineupsPage() {
  const [params, set] = useSearchParams();
  const list = useGet<Lineup[]>("lineups");
  const chosen = params.get("lineup");
  const fresh = params.get("new") !== null;
  const open = list.data?.find((l) => l.name === chosen) ?? (fresh ? undefined : list.data?.[0]);
  return (
    <div className="mx-auto flex h-full max-w-[1440px] flex-col px-5 pt-5">
      <Heading title="Lineups" about="A lineup is a rule that chooses devices: for runs, and to see what there is.">
        <button className="button" onClick={() => set({ new: "" })}>
          New lineup
        </button>
      </Heading>
      {list.isPending && <Waiting what="lineups" />}
      {list.error && <Trouble of={list.error} retry={() => void list.refetch()} />}
      {list.data && (
        <div className="grid min-h-0 flex-1 gap-x-8 lg:grid-cols-[210px_minmax(0,1fr)_minmax(0,1.1fr)]">
          <nav aria-label="Saved lineups" className="min-h-0 overflow-auto pb-4">
            {list.data.map((l) => (
              <Link
                key={l.name}
                to={`/lineups?lineup=${encodeURIComponent(l.name)}`}
                aria-current={open?.name === l.name && !fresh ? "true" : undefined}
                className={`block border-b border-rule px-2 py-1.5 ${open?.name === l.name && !fresh ? "bg-picked" : "hover:bg-wash"}`}
              >
                <span className="font-medium">{l.name}</span>
                {l.about && <span className="block text-sm text-soft">{l.about}</span>}
              </Link>
            ))}
            {list.data.length === 0 && (
              <p className="text-soft">
                None yet. Write one here, or keep a file with <Command>yamato lineup save FILE</Command>
              </p>
            )}
          </nav>
          <Draft key={fresh ? "" : (open?.name ?? "")} saved={fresh ? undefined : open} />
        </div>
      )}
    </div>
  );
}

function Draft({ saved }: { saved: Lineup | undefined }) {
  const shelf = `yamato.lineup.${saved?.name ?? ""}`;
  const [text, setText] = useState(() => sessionStorage.getItem(shelf) ?? saved?.text ?? example);
  const [trouble, setTrouble] = useState<unknown>();
  const [asking, setAsking] = useState(false);
  const [, set] = useSearchParams();
  const start = useStart();
  const changed = text !== (saved?.text ?? "");
  useEffect(() => {
    if (changed) sessionStorage.setItem(shelf, text);
    else sessionStorage.removeItem(shelf);
  }, [shelf, text, changed]);
  const asked = useDeferredValue(text);
  const fleet = useFleet();
  const choice = useQuery<Choice, Problem>({
    queryKey: ["choice", asked],
    queryFn: () => post<Choice>(inProject("lineups/choice"), { text: asked }),
    placeholderData: (b) => b,
    retry: false,
  });
  const { refetch } = choice;
  const due = useRef(0);
  useEffect(() => {
    due.current ||= window.setTimeout(() => {
      due.current = 0;
      void refetch();
    }, 600); // live, and not more often than a person can read it
  }, [fleet, refetch]);
  const save = async () => {
    try {
      const l = await put<Lineup>(inProject("lineups"), { text });
      sessionStorage.removeItem(shelf);
      setTrouble(undefined);
      outdated("lineups");
      set({ lineup: l.name });
    } catch (e) {
      setTrouble(e);
    }
  };
  const removed = () => {
    outdated("lineups", "plans");
    set({});
    if (saved)
      undo.offer(`The lineup ${saved.name} is removed.`, () =>
        put(inProject("lineups"), { text: saved.text }).then(() => outdated("lineups", "plans")),
      );
  };
  return (
    <>
      <div className="flex min-h-0 flex-col pb-4">
        <div className="flex flex-wrap items-center gap-2 pb-2">
          <button className="button button-main" disabled={!changed || !!choice.error} onClick={() => void save()}>
            Save
          </button>
          {saved && changed && (
            <button className="button" onClick={() => setText(saved.text)}>
              Back to what is saved
            </button>
          )}
          {saved && !changed && (
            <>
              <button
                className="button"
                onClick={() =>
                  void remove(inProject(`lineups/${encodeURIComponent(saved.name)}`)).then(removed, (e: unknown) =>
                    e instanceof Problem && e.status === 409 ? setAsking(true) : setTrouble(e),
                  )
                }
              >
                Remove
              </button>
              <Sure
                open={asking}
                onOpenChange={setAsking}
                question={`Remove the lineup ${saved.name}?`}
                needed={{ kind: "lineup", name: saved.name }}
                does="Remove it"
                onYes={() => void remove(anyway(`lineups/${encodeURIComponent(saved.name)}`)).then(removed, setTrouble)}
              />
            </>
          )}
          <span className="text-sm text-soft">
            {saved ? `saved by ${saved.saved_by}, ${at(saved.saved_at)}` : "not saved yet"}
          </span>
        </div>
        {trouble !== undefined && <Trouble of={trouble} />}
        <div className="min-h-[260px] flex-1 overflow-hidden border border-strong bg-sheet">
          <Editor label="The lineup's text" text={text} onChange={setText} onSave={() => void save()} />
        </div>
        {choice.error && <Trouble of={choice.error} />}
      </div>
      <div className="min-h-0 overflow-auto pb-4" tabIndex={0} role="region" aria-label="What it takes now">
        {choice.data && (
          <div className={choice.error ? "opacity-40" : ""}>
            <Section
              title={`Takes ${plural(choice.data.taken.length, "device")} now`}
              aside={
                saved && !changed ? (
                  <button className="link" onClick={() => start({ through: saved.name })}>
                    start a run on them
                  </button>
                ) : undefined
              }
            >
              <Rows list={choice.data.taken} numbered />
              {choice.data.taken.length === 0 && <p className="py-2 text-soft">No device is like that now.</p>}
            </Section>
            <Section title={`Passes ${plural(choice.data.passed.length, "device")} over`}>
              <Rows list={choice.data.passed} />
            </Section>
          </div>
        )}
      </div>
    </>
  );
}

function Rows({ list, numbered }: { list: Choice["taken"]; numbered?: boolean }) {
  const shown = list.slice(0, 200);
  return (
    <>
      {shown.map((d, i) => (
        <div
          key={d.device}
          className="grid grid-cols-[22px_minmax(0,1fr)_minmax(0,1.2fr)] items-baseline gap-x-2 border-b border-rule py-1"
          data-device={d.device}
        >
          <span className="text-sm text-faint">{numbered ? i + 1 : ""}</span>
          <span className="min-w-0">
            <Link className="link font-medium" to={`/fleet/${encodeURIComponent(d.device)}`}>
              {d.device}
            </Link>
            <span className="block truncate text-sm text-soft">
              {d.model}, {systemName(d.platform, d.os)}, {d.kind}
            </span>
          </span>
          <span className={numbered ? "text-soft" : ""}>
            {d.why}
            {numbered && d.state !== "idle" && <span className="block text-sm">now {d.state}</span>}
          </span>
        </div>
      ))}
      {list.length > shown.length && (
        <p className="py-1 text-soft">and {(list.length - shown.length).toLocaleString()} more</p>
      )}
    </>
  );
}
