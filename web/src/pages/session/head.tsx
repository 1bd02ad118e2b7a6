import { DropdownMenu } from "radix-ui";
import { useState, type ReactNode } from "react";
import { inProject, outdated, patch, post, type Session } from "../../data/api";
import { SessionLink, type Shown } from "../../data/session";
import { at, lasting } from "../../data/time";
import { MenuItem } from "../../parts/menu";
import { Modal, Trouble } from "../../parts/plain";
import { stateWords } from "../by-hand";
import { Sure } from "../../parts/sure";

export function Head({
  s,
  shown,
  link,
  children,
}: {
  s: Session;
  shown: Shown;
  link: SessionLink;
  children: ReactNode;
}) {
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
export function Notices({ shown, link }: { shown: Shown; link: SessionLink }) {
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
