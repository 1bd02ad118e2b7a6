import { useEffect, useRef, useState, type PointerEvent } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { inProject, outdated, patch, useGet, type DrawnMark, type SeenFault } from "../data/api";
import { useTitle } from "../data/live";
import { at } from "../data/time";
import { Empty, Heading, Section, Trouble, Waiting } from "../parts/plain";
import { Pick } from "../parts/start/pick";

const states: [string, string][] = [
  ["", "any state"],
  ["open", "open"],
  ["mended", "mended in a build"],
  ["no fault", "not a fault"],
];

const stateOf = (f: SeenFault) =>
  f.mended_in ? `mended in ${f.mended_in}` : f.state === "no fault" ? "not a fault" : f.state;

export function FindingsPage() {
  const [params, set] = useSearchParams();
  const q = params.get("q") ?? "";
  const state = params.get("state") ?? "";
  const put = (k: string, v: string) =>
    set(
      (p) => {
        if (v) p.set(k, v);
        else p.delete(k);
        return p;
      },
      { replace: true },
    );
  const filter = new URLSearchParams(Object.entries({ q, state }).filter(([, v]) => v));
  const list = useGet<{ findings: SeenFault[] }>(`findings?${filter}`, { placeholderData: (before) => before });
  const found = list.data?.findings ?? [];
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title="Findings" about="What was seen and should be mended.">
        <input
          type="search"
          aria-label="Find findings"
          placeholder="Words, device, build, person"
          className="field w-60"
          value={q}
          onChange={(e) => put("q", e.target.value)}
        />
        <Pick narrow label="State" value={state} onChange={(v) => put("state", v)} options={states} />
        <Link className="button" to="/by-hand">
          By hand
        </Link>
      </Heading>
      {list.error && <Trouble of={list.error} retry={() => void list.refetch()} />}
      {list.isPending && <Waiting what="findings" />}
      {list.isSuccess && found.length === 0 && (
        <Empty title={filter.size > 0 ? "No finding is like that." : "Nothing has been found yet."}>
          <p>
            In a session, keep a picture or mark a moment, and make a finding of it. A failed case of a run can be made
            one too.
          </p>
        </Empty>
      )}
      <ul>
        {found.map((f) => (
          <li key={f.number} className="flex items-center gap-3 border-b border-rule py-1.5">
            <span className="w-8 flex-none text-right text-faint">{f.number}</span>
            <span
              className={`verdict flex-none ${f.state === "open" ? "verdict-fail" : f.state === "mended" ? "verdict-pass" : "verdict-skip"}`}
              aria-hidden="true"
            />
            <Link className="min-w-0 flex-1 truncate font-medium" to={`/findings/${f.number}`}>
              {f.title}
            </Link>
            <span className="w-36 flex-none truncate text-soft">{f.build}</span>
            <span className="w-44 flex-none truncate text-soft">
              {f.model} {f.os}
            </span>
            <span className="w-24 flex-none truncate text-soft">{f.found_by}</span>
            <span className="w-24 flex-none text-soft">{at(f.at)}</span>
            <span className="w-28 flex-none truncate text-soft">{stateOf(f)}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

export function FindingPage() {
  const number = Number(useParams().finding);
  const one = useGet<SeenFault>(`findings/${number}`);
  useTitle(one.data?.title ?? `Finding ${number}`);
  if (one.error && !one.data)
    return (
      <div className="p-5">
        <Trouble of={one.error} retry={() => void one.refetch()} />
      </div>
    );
  return one.data ? (
    <Whole key={number} f={one.data} />
  ) : (
    <div className="p-5">
      <Waiting what="the finding" />
    </div>
  );
}

function Whole({ f }: { f: SeenFault }) {
  const [title, setTitle] = useState(f.title);
  const [note, setNote] = useState(f.note);
  const [mended, setMended] = useState("");
  const [trouble, setTrouble] = useState<unknown>();
  const change = (part: object) =>
    patch<SeenFault>(inProject(`findings/${f.number}`), part).then(() => {
      setTrouble(undefined);
      outdated("findings");
    }, setTrouble);
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading
        title={`Finding ${f.number}`}
        about={
          <>
            {f.found_by}, {at(f.at)}; {stateOf(f)}.{" "}
            {f.session && (
              <Link className="link" to={`/by-hand/${f.session}`}>
                Session {f.session}
              </Link>
            )}
            {f.run && (
              <Link className="link" to={`/runs/${f.run}`}>
                Run {f.run}
              </Link>
            )}
          </>
        }
      >
        <form
          className="flex gap-1.5"
          onSubmit={(e) => {
            e.preventDefault();
            void change({ mended_in: mended });
          }}
        >
          <input
            aria-label="Build that it was mended in"
            className="field w-28"
            placeholder="build"
            value={mended}
            onChange={(e) => setMended(e.target.value)}
          />
          <button className="button" disabled={!mended}>
            Mended in it
          </button>
        </form>
        {f.state === "open" ? (
          <button className="button" onClick={() => void change({ state: "no fault" })}>
            Not a fault
          </button>
        ) : (
          <button className="button" onClick={() => void change({ state: "open" })}>
            Open it again
          </button>
        )}
        <a className="button" href={inProject(`findings/${f.number}/finding.zip`)} download>
          Take it along <span className="text-sm text-soft">Markdown, zip</span>
        </a>
      </Heading>
      {trouble !== undefined && <Trouble of={trouble} />}
      <div className="flex flex-wrap gap-6">
        <div className="min-w-72 flex-1">
          <input
            aria-label="Title"
            className="field mb-2 h-8 w-full text-lg font-medium"
            value={title}
            maxLength={300}
            onChange={(e) => setTitle(e.target.value)}
            onBlur={() => title.trim() && title !== f.title && void change({ title })}
          />
          <textarea
            aria-label="What was expected, and what was seen"
            placeholder="What was expected, and what was seen"
            className="field mb-4 h-24 w-full py-1"
            value={note}
            onChange={(e) => setNote(e.target.value)}
            onBlur={() => note !== f.note && void change({ note })}
          />
          <Section title="Where">
            <dl className="grid grid-cols-[7rem_1fr] gap-y-0.5 pt-1.5">
              {[
                ["Build", f.build],
                ["App", f.app],
                ["Device", `${f.device}, ${f.model}, ${f.os}`],
                ["Language", f.language],
                ["Surroundings", f.surroundings.join("; ") || "as usual"],
              ].map(([k, v]) =>
                v ? (
                  <div key={k} className="contents">
                    <dt className="text-soft">{k}</dt>
                    <dd className="break-words">{v}</dd>
                  </div>
                ) : null,
              )}
            </dl>
          </Section>
          <Section title="The way there" aside="as lines of script">
            {f.way.length > 0 ? (
              <pre className="overflow-auto pt-1.5 font-mono text-sm">{f.way.join("\n")}</pre>
            ) : (
              <p className="pt-1.5 text-soft">Nothing was done before it.</p>
            )}
          </Section>
          <Section title="Log around it">
            {f.log.length > 0 ? (
              <pre className="max-h-72 overflow-auto pt-1.5 font-mono text-[11.5px] leading-[17px]">
                {f.log.join("\n")}
              </pre>
            ) : (
              <p className="pt-1.5 text-soft">The device wrote nothing at that time.</p>
            )}
          </Section>
        </div>
        {f.picture && <Drawing f={f} save={(marks) => change({ marks })} />}
      </div>
    </div>
  );
}

const kinds: [DrawnMark["kind"], string][] = [
  ["arrow", "Arrow"],
  ["box", "Box"],
  ["words", "Words"],
];

/** The picture, with marks drawn on it: arrows, boxes, words. */
function Drawing({ f, save }: { f: SeenFault; save: (marks: DrawnMark[]) => Promise<unknown> }) {
  const [kind, setKind] = useState<DrawnMark["kind"]>("arrow");
  const [text, setText] = useState("");
  const [marks, setMarks] = useState(f.marks);
  const [size, setSize] = useState<{ w: number; h: number }>();
  const [going, setGoing] = useState<DrawnMark>();
  const svg = useRef<SVGSVGElement>(null);
  const first = useRef(true);
  useEffect(() => {
    if (first.current) first.current = false;
    else void save(marks);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- only what was drawn is saved
  }, [marks]);
  const at = (e: PointerEvent) => {
    const r = svg.current!.getBoundingClientRect();
    const part = (v: number) => Math.max(0, Math.min(1, v));
    return { x: part((e.clientX - r.x) / r.width), y: part((e.clientY - r.y) / r.height) };
  };
  const w = size?.w ?? 408;
  const h = size?.h ?? 896;
  const all = going ? [...marks, going] : marks;
  return (
    <section aria-label="Picture" className="flex-none">
      <div className="flex items-center gap-1.5 pb-2" role="group" aria-label="Draw on the picture">
        {kinds.map(([k, words]) => (
          <button
            key={k}
            className={`button h-6 px-2 ${kind === k ? "button-main" : ""}`}
            aria-pressed={kind === k}
            onClick={() => setKind(k)}
          >
            {words}
          </button>
        ))}
        <input
          aria-label="Words of the next mark"
          className="field h-6 w-36"
          placeholder="with words"
          maxLength={200}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <button className="button h-6 px-2" disabled={marks.length === 0} onClick={() => setMarks(marks.slice(0, -1))}>
          Take back
        </button>
      </div>
      <div className="relative inline-block">
        <img
          src={`${inProject(`findings/${f.number}/picture`)}?plain=true`}
          alt={`What was to be seen: ${f.title}`}
          className="block max-h-[70vh] max-w-[560px] rounded outline-1 outline-strong"
          onLoad={(e) => setSize({ w: e.currentTarget.naturalWidth, h: e.currentTarget.naturalHeight })}
        />
        <svg
          ref={svg}
          viewBox={`0 0 ${w} ${h}`}
          preserveAspectRatio="none"
          role="img"
          aria-label={`${marks.length} marks drawn on it`}
          className="absolute inset-0 h-full w-full cursor-crosshair touch-none text-vermilion"
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            const p = at(e);
            setGoing({
              kind,
              ...p,
              to_x: p.x,
              to_y: p.y,
              ...(text || kind === "words" ? { text: text || "here" } : {}),
            });
          }}
          onPointerMove={(e) => {
            if (!going) return;
            const p = at(e);
            setGoing({ ...going, to_x: p.x, to_y: p.y });
          }}
          onPointerUp={() => {
            if (!going) return;
            const far = Math.hypot((going.to_x - going.x) * w, (going.to_y - going.y) * h);
            setGoing(undefined);
            if (far > 8 || going.kind === "words") {
              setMarks([...marks, going]);
              setText("");
            }
          }}
        >
          {all.map((m, i) => (
            <Mark key={i} m={m} w={w} h={h} />
          ))}
        </svg>
      </div>
      <p className="pt-1 text-sm text-soft">Drag on the picture: an arrow points at where it ends.</p>
    </section>
  );
}

function Mark({ m, w, h }: { m: DrawnMark; w: number; h: number }) {
  const [x, y, tx, ty] = [m.x * w, m.y * h, m.to_x * w, m.to_y * h];
  const thick = Math.max(3, Math.min(w, h) / 110);
  const angle = Math.atan2(ty - y, tx - x);
  const head = thick * 5;
  const size = Math.max(14, Math.min(w, h) / 22);
  return (
    <g stroke="currentColor" fill="none" strokeWidth={thick}>
      {m.kind === "box" && (
        <rect x={Math.min(x, tx)} y={Math.min(y, ty)} width={Math.abs(tx - x)} height={Math.abs(ty - y)} />
      )}
      {m.kind === "arrow" && (
        <>
          <line x1={x} y1={y} x2={tx - (Math.cos(angle) * head) / 2} y2={ty - (Math.sin(angle) * head) / 2} />
          <polygon
            fill="currentColor"
            stroke="none"
            points={[0, -0.45, 0.45]
              .map((o) =>
                o === 0 ? `${tx},${ty}` : `${tx - head * Math.cos(angle + o)},${ty - head * Math.sin(angle + o)}`,
              )
              .join(" ")}
          />
        </>
      )}
      {m.text && (
        <text
          x={x + 6}
          y={m.kind === "words" ? y + size : Math.max(size, y - 6)}
          fill="currentColor"
          stroke="var(--paper)"
          strokeWidth={4}
          paintOrder="stroke"
          fontSize={size}
          fontWeight={700}
        >
          {m.text}
        </text>
      )}
    </g>
  );
}
