import { useEffect, useMemo, useState } from "react";
import { SessionLink, type Answer, type Box, type Card, type Node, type Order, type TreeOf } from "../../data/session";

// Where the pointer is: what is told of a place comes a moment after it was asked for.
const pointer = { x: 0, y: 0 };
window.addEventListener("mousemove", (e) => Object.assign(pointer, { x: e.clientX, y: e.clientY }), { passive: true });

/** The card at the pointer. */
export function Pointed({ card }: { card: Card }) {
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
export function Inside({ card, link, act, picture, onMark }: InsideProps) {
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
