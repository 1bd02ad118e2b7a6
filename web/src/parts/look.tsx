import { useVirtualizer } from "@tanstack/react-virtual";
import { Popover } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import type { Element } from "../data/api";
import { plural } from "../data/time";

export type Seen = { picture: string; elements: Element[]; about: string };

type Place = { x: number; y: number };

/** A screen: its picture with the tree beside it. Pointing at either marks the other. */
export function Look({ seen, device }: { seen: Seen; device: string }) {
  const [at, setAt] = useState(-1);
  const [kept, setKept] = useState(false); // the card stays until it is closed
  const [place, setPlace] = useState<Place>({ x: 0, y: 0 });
  const [room, setRoom] = useState(0);
  const frame = useRef<HTMLDivElement>(null);
  const list = seen.elements;
  const screen = list[0]?.bounds ?? { w: 400, h: 800 };
  // As high as there is room for, never larger than life, and not over half the page.
  const scale = Math.min(room / screen.h, 1, 560 / screen.w) || 0.01;
  const e = list[at];

  useEffect(() => {
    const box = frame.current;
    if (!box) return;
    const watch = new ResizeObserver(() => setRoom(box.clientHeight - 34));
    watch.observe(box);
    return () => watch.disconnect();
  }, []);

  // The last painted element at a place is the one a touch would meet.
  const hit = (x: number, y: number) => {
    for (let i = list.length - 1; i >= 0; i--) {
      const b = list[i]!.visible;
      if (x >= b.x && x < b.x + b.w && y >= b.y && y < b.y + b.h) return i;
    }
    return -1;
  };
  // Of what has nothing to be found by, the nearest thing around it is meant.
  const meant = (i: number) => {
    let depth = list[i]?.depth ?? 0;
    for (let j = i; j >= 0; j--) {
      const one = list[j]!;
      if (j !== i && one.depth >= depth) continue;
      depth = one.depth;
      if (one.lines.length > 0) return j;
    }
    return i;
  };
  const point = (i: number, p: Place) => {
    if (kept) return;
    setAt(i);
    setPlace(p);
  };
  const anchor = useMemo(
    () => ({ current: { getBoundingClientRect: () => new DOMRect(place.x + 10, place.y + 10, 1, 1) } }),
    [place],
  );

  return (
    <div ref={frame} className="flex min-h-0 flex-1 gap-6 overflow-hidden pb-3">
      <div className="flex-none" style={{ width: screen.w * scale }}>
        <div className="relative" style={{ height: screen.h * scale }}>
          <img
            src={seen.picture}
            alt={`The screen of ${device}, ${seen.about}`}
            className="h-full w-full cursor-crosshair rounded outline-1 outline-strong"
            onMouseMove={(ev) => {
              const r = ev.currentTarget.getBoundingClientRect();
              const i = hit((ev.clientX - r.x) / scale, (ev.clientY - r.y) / scale);
              point(i < 0 ? i : meant(i), { x: ev.clientX, y: ev.clientY });
            }}
            onMouseLeave={() => !kept && setAt(-1)}
            onClick={() => setKept(!kept)}
          />
          {e && e.visible.w > 0 && (
            <span
              aria-hidden="true"
              className="pointer-events-none absolute border-2 border-vermilion"
              style={{
                left: e.visible.x * scale,
                top: e.visible.y * scale,
                width: e.visible.w * scale,
                height: e.visible.h * scale,
                boxShadow: "0 0 0 1px var(--paper)",
              }}
            />
          )}
        </div>
        <p className="pt-1.5 text-sm text-soft">{seen.about}</p>
      </div>
      <Tree
        list={list}
        at={at}
        onPoint={(i, p) => point(i, p)}
        onLeave={() => !kept && setAt(-1)}
        onKeep={(i, p) => {
          setKept(false);
          setAt(i);
          setPlace(p);
          setKept(true);
        }}
      />
      <Popover.Root open={!!e && (e.lines.length > 0 || e.label !== "")} onOpenChange={(o) => !o && setKept(false)}>
        <Popover.Anchor virtualRef={anchor} />
        <Popover.Portal>
          <Popover.Content
            align="start"
            side="bottom"
            sideOffset={8}
            collisionPadding={12}
            aria-label="The element"
            onOpenAutoFocus={(ev) => !kept && ev.preventDefault()}
            onCloseAutoFocus={(ev) => ev.preventDefault()}
            onInteractOutside={(ev) => {
              if (!kept) ev.preventDefault();
            }}
            className={`card z-30 w-96 px-3 py-2 ${kept ? "" : "pointer-events-none"}`}
          >
            {e && <Card e={e} kept={kept} onClose={() => setKept(false)} />}
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </div>
  );
}

function Card({ e, kept, onClose }: { e: Element; kept: boolean; onClose: () => void }) {
  const [copied, setCopied] = useState("");
  return (
    <div>
      <p className="flex items-baseline justify-between gap-3">
        <span className="min-w-0">
          <b className="font-semibold">{e.role || "text"}</b>
          {e.label && <span className="break-words"> “{e.label}”</span>}
        </span>
        {kept && (
          <button className="link flex-none text-sm" onClick={onClose}>
            close
          </button>
        )}
      </p>
      <p className="text-sm text-soft">
        {e.id && <code className="font-mono">#{e.id}</code>} {Math.round(e.bounds.w)} × {Math.round(e.bounds.h)} dp at{" "}
        {Math.round(e.bounds.x)}, {Math.round(e.bounds.y)}
        {e.states.length > 0 && `; ${e.states.join(", ")}`}
      </p>
      {e.lines.length > 0 ? (
        <ul className="mt-1.5 border-t border-rule pt-1.5">
          {e.lines.map((l) => (
            <li key={l} className="flex items-baseline gap-2 py-0.5">
              <code className="min-w-0 flex-1 font-mono text-sm break-words">{l}</code>
              {kept && (
                <button
                  className="link flex-none text-sm"
                  onClick={() => void navigator.clipboard?.writeText(l).then(() => setCopied(l))}
                >
                  {copied === l ? "copied" : "copy"}
                </button>
              )}
            </li>
          ))}
          {e.locators.length > 1 && (
            <li className="pt-1 text-sm text-soft">
              Also found by{" "}
              {e.locators.slice(1, 4).map((l, i) => (
                <span key={l}>
                  {i > 0 && ", "}
                  <code className="font-mono">{l}</code>
                </span>
              ))}
              .
            </li>
          )}
        </ul>
      ) : (
        <p className="mt-1 text-sm text-soft">
          Nothing finds this element alone: it has no id, role or label that others lack.
        </p>
      )}
      {!kept && e.lines.length > 0 && <p className="pt-1 text-sm text-faint">Click to keep this card.</p>}
    </div>
  );
}

type TreeProps = {
  list: Element[];
  at: number;
  onPoint: (i: number, p: Place) => void;
  onLeave: () => void;
  onKeep: (i: number, p: Place) => void;
};

function Tree({ list, at, onPoint, onLeave, onKeep }: TreeProps) {
  const box = useRef<HTMLDivElement>(null);
  const shown = useMemo(() => {
    const around: number[] = []; // depths of the shown elements that this one lies in
    return list.flatMap((e, i) => {
      while (around.length > 0 && around[around.length - 1]! >= e.depth) around.pop();
      if (!(e.role || e.id || e.label) || e.visible.w <= 0) return [];
      around.push(e.depth);
      return [{ e, i, level: around.length }];
    });
  }, [list]);
  const hidden = list.filter((e) => (e.role || e.id || e.label) && e.visible.w <= 0).length;
  const row = shown.findIndex((s) => s.i === at);
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => box.current,
    estimateSize: () => 22,
    overscan: 20,
  });
  const byPointer = useRef(false);
  useEffect(() => {
    if (row >= 0 && !byPointer.current) virtual.scrollToIndex(row);
    byPointer.current = false;
  }, [row, virtual]);
  const beside = (i: number): Place => {
    const line = box.current?.querySelector(`[data-element="${i}"]`)?.getBoundingClientRect();
    return line ? { x: line.x + 40, y: line.bottom - 8 } : { x: 0, y: 0 };
  };
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <div className="flex flex-none items-baseline justify-between border-b border-strong pb-1">
        <h2>Screen tree</h2>
        <span className="text-sm text-soft">
          {plural(shown.length, "element")}
          {hidden > 0 && `, ${hidden} out of sight`}
        </span>
      </div>
      <div
        ref={box}
        role="tree"
        aria-label="Screen tree"
        tabIndex={0}
        aria-activedescendant={row >= 0 ? `element-${at}` : undefined}
        className="min-h-0 flex-1 overflow-auto"
        onMouseLeave={onLeave}
        onKeyDown={(e) => {
          const next = { ArrowDown: row + 1, ArrowUp: row - 1, Home: 0, End: shown.length - 1 }[e.key];
          if (next !== undefined) {
            e.preventDefault();
            const to = shown[Math.max(0, Math.min(shown.length - 1, next))];
            if (to) {
              virtual.scrollToIndex(shown.indexOf(to));
              onPoint(to.i, beside(to.i));
            }
          } else if (e.key === "Enter" && at >= 0) {
            e.preventDefault();
            onKeep(at, beside(at));
          }
        }}
      >
        <div style={{ height: virtual.getTotalSize() }} className="relative" role="presentation">
          {virtual.getVirtualItems().map((v) => {
            const { e, i, level } = shown[v.index]!;
            return (
              <div
                key={v.key}
                id={`element-${i}`}
                data-element={i}
                role="treeitem"
                aria-level={level}
                aria-selected={i === at}
                onMouseEnter={(ev) => {
                  byPointer.current = true;
                  onPoint(i, { x: ev.clientX, y: ev.clientY });
                }}
                onClick={(ev) => onKeep(i, { x: ev.clientX, y: ev.clientY })}
                className={`absolute inset-x-0 flex items-center gap-2 border-b border-rule whitespace-nowrap ${i === at ? "bg-picked" : ""}`}
                style={{ transform: `translateY(${v.start}px)`, height: 22, paddingLeft: 4 + (level - 1) * 14 }}
              >
                <span className="text-soft">{e.role || "text"}</span>
                <span className="min-w-0 flex-1 truncate">{e.label}</span>
                {e.id && <code className="font-mono text-sm text-soft">#{e.id}</code>}
                {e.states.length > 0 && <span className="text-sm text-faint">{e.states.join(", ")}</span>}
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}
