import { useEffect, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { SessionLink, useShown, type Answer, type Box, type Order } from "../data/session";
import { Command, Empty, Heading } from "../parts/plain";
import { Screen } from "../parts/screen";

/** Several devices side by side: what is done on one is done on all, by element and not by place. */
export function SidePage() {
  const [params] = useSearchParams();
  const of = params.get("of") ?? "";
  const numbers = useMemo(
    () =>
      [
        ...new Set(
          of
            .split(",")
            .map(Number)
            .filter((n) => n > 0),
        ),
      ].slice(0, 6),
    [of],
  );
  const [links, setLinks] = useState<SessionLink[]>([]);
  const [together, setTogether] = useState(true);
  const [said, setSaid] = useState<Record<number, { text: string; bad: boolean } | undefined>>({});
  useEffect(() => {
    const list = numbers.map((n) => new SessionLink(n));
    setLinks(list);
    return () => list.forEach((l) => l.close());
  }, [numbers]);
  const tell = (n: number, a: Answer, words = "") =>
    setSaid((s) => ({
      ...s,
      [n]: a.trouble ? { text: a.trouble, bad: true } : words ? { text: words, bad: false } : undefined,
    }));

  const act = (from: SessionLink) => async (o: Order) => {
    const a = await from.order(o);
    tell(from.number, a);
    if (!together || a.trouble) return a;
    const others = links.filter((l) => l !== from);
    // By element where one was touched, as it is where there is nothing to be found: keys, text, surroundings.
    const line = a.lines?.[0];
    const same: Order | undefined = line
      ? { do: "line", text: `${line} within 20s` }
      : ["text", "keys", "press", "feel", "undo", "line"].includes(o.do)
        ? o
        : undefined;
    for (const l of others) {
      if (!same) {
        tell(l.number, { id: 0, trouble: "what was done there has no name here; do it by hand on this one" });
        continue;
      }
      setSaid((s) => ({ ...s, [l.number]: { text: `waits for ${line ?? o.do}…`, bad: false } }));
      void l.order(same).then((b) => tell(l.number, b, b.trouble ? "" : "done here too"));
    }
    return a;
  };
  if (numbers.length === 0)
    return (
      <div className="px-5 py-5">
        <Heading title="Side by side" />
        <Empty title="No session is named.">
          <p>
            Open several, each with <Command>yamato session open DEVICE</Command> or from{" "}
            <Link className="link" to="/by-hand">
              By hand
            </Link>
            , and come back from there.
          </p>
        </Empty>
      </div>
    );
  return (
    <div className="flex h-full flex-col px-4 pt-3">
      <Heading
        title="Side by side"
        about="What you do on one is done on all that have the element; one that lacks it says so, and waits for it."
      >
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={together} onChange={(e) => setTogether(e.target.checked)} /> one hand for all
        </label>
      </Heading>
      <div className="flex min-h-0 flex-1 gap-3 pb-2">
        {links.map((l) => (
          <One key={l.number} link={l} act={act(l)} said={said[l.number]} />
        ))}
      </div>
    </div>
  );
}

function One({
  link,
  act,
  said,
}: {
  link: SessionLink;
  act: (o: Order) => Promise<Answer>;
  said?: { text: string; bad: boolean };
}) {
  const shown = useShown(link);
  const [marks, setMarks] = useState<Box[]>([]);
  const view = shown.view;
  return (
    <section aria-label={view?.device ?? `Session ${link.number}`} className="flex min-w-0 flex-1 flex-col">
      <h2 className="flex-none truncate pb-1">
        <Link className="link" to={`/by-hand/${link.number}`}>
          {view?.device || `Session ${link.number}`}
        </Link>
      </h2>
      {shown.status?.stage === "open" ? (
        <Screen
          link={link}
          shown={shown}
          device={view?.device ?? ""}
          looking={false}
          marks={marks}
          act={act}
          onCard={(c) => setMarks(c ? [c.bounds] : [])}
        />
      ) : (
        <p className="flex-1 text-soft">
          {shown.closed
            ? "It is closed."
            : view?.state === "closed"
              ? `It is closed: ${view.why}`
              : "It is made ready…"}
        </p>
      )}
      <p
        role="status"
        className={`h-5 flex-none truncate text-sm ${said?.bad ? "text-vermilion" : "text-soft"}`}
        title={said?.text}
      >
        {said?.text}
      </p>
    </section>
  );
}
