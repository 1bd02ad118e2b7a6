import { useEffect, useRef, useState, type KeyboardEvent, type PointerEvent, type WheelEvent } from "react";
import type { Answer, Box, Card, Order, SessionLink, Shown, Spot } from "../data/session";

type Path = { x: number; y: number; at_ms: number }[];
type Down = { id: number; at: Spot; began: number; path: Path; far: number; modifier: boolean };

const slop = 8; // of the screen's own units that a finger may stray and still not have moved
const holdAfter = 500;
const keys: Record<string, string> = {
  Enter: "\ue007",
  Backspace: "\ue003",
  Delete: "\ue017",
  ArrowLeft: "\ue012",
  ArrowUp: "\ue013",
  ArrowRight: "\ue014",
  ArrowDown: "\ue015",
  Home: "\ue011",
  End: "\ue010",
};

type Props = {
  link: SessionLink;
  shown: Shown;
  device: string;
  looking: boolean;
  marks: Box[];
  act: (o: Order) => Promise<Answer>;
  onCard: (c: Card | undefined, kept: boolean) => void;
};

/** The device's screen: it moves as it moves, and takes touches and keys. */
export function Screen({ link, shown, device, looking, marks, act, onCard }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const entry = useRef<HTMLTextAreaElement>(null);
  const [room, setRoom] = useState({ w: 0, h: 0 });
  const [fingers, setFingers] = useState<Spot[]>([]);
  const downs = useRef(new Map<number, Down>());
  const pinch = useRef<{ a: Spot; b: Spot } | undefined>(undefined);
  const rest = useRef(0);
  const typed = useRef("");
  const typing = useRef(0);
  const wheel = useRef<{ at: Spot; dx: number; dy: number; timer: number } | undefined>(undefined);
  const width = shown.status?.width || 408;
  const height = shown.status?.height || 896;
  const scale = Math.max(0.05, Math.min(room.w / width, room.h / height));

  useEffect(() => {
    const b = box.current;
    if (!b) return;
    const watch = new ResizeObserver(() => setRoom({ w: b.clientWidth, h: b.clientHeight }));
    watch.observe(b);
    return () => watch.disconnect();
  }, []);
  useEffect(() => {
    link.show(canvas.current ?? undefined, width * scale, height * scale);
    return () => link.show(undefined, 0, 0);
  }, [link, width, height, scale]);

  const spot = (e: { clientX: number; clientY: number }): Spot => {
    const r = canvas.current!.getBoundingClientRect();
    return {
      x: Math.max(0, Math.min(width - 0.5, (e.clientX - r.x) / scale)),
      y: Math.max(0, Math.min(height - 0.5, (e.clientY - r.y) / scale)),
    };
  };
  const aim = (o: Order) => act({ ...o, aimed: link.frame });
  const card = (at: Spot, keep: boolean) => void link.order({ do: "card", at }).then((a) => onCard(a.card, keep));

  const down = (e: PointerEvent) => {
    if (e.button !== 0 && e.pointerType === "mouse") return;
    clearTimeout(rest.current);
    onCard(undefined, false);
    canvas.current!.setPointerCapture(e.pointerId);
    entry.current?.focus({ preventScroll: true });
    const at = spot(e);
    downs.current.set(e.pointerId, {
      id: e.pointerId,
      at,
      began: performance.now(),
      path: [{ ...at, at_ms: 0 }],
      far: 0,
      modifier: e.shiftKey,
    });
    if (downs.current.size === 2) {
      const [a, b] = [...downs.current.values()];
      pinch.current = { a: a!.at, b: b!.at };
    }
    setFingers([...downs.current.values()].map((d) => d.path[d.path.length - 1]!));
  };
  const move = (e: PointerEvent) => {
    const d = downs.current.get(e.pointerId);
    const at = spot(e);
    if (!d) {
      clearTimeout(rest.current);
      if (looking) card(at, false);
      else rest.current = window.setTimeout(() => card(at, false), 650);
      return;
    }
    d.far = Math.max(d.far, Math.hypot(at.x - d.at.x, at.y - d.at.y));
    const ms = Math.round(performance.now() - d.began);
    if (d.path.length < 500 && ms - d.path[d.path.length - 1]!.at_ms >= 12) d.path.push({ ...at, at_ms: ms });
    setFingers([...downs.current.values()].map((one) => (one === d ? at : one.path[one.path.length - 1]!)));
  };
  const up = (e: PointerEvent) => {
    const d = downs.current.get(e.pointerId);
    if (!d) return;
    const at = spot(e);
    const took = Math.round(performance.now() - d.began);
    downs.current.delete(e.pointerId);
    setFingers([]);
    if (pinch.current) {
      const { a, b } = pinch.current;
      const other = downs.current.values().next().value;
      if (other) {
        const apart = (p: Spot, q: Spot) => Math.hypot(p.x - q.x, p.y - q.y);
        const end = other.path[other.path.length - 1]!;
        void aim({
          do: "pinch",
          at: { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 },
          from: apart(a, b),
          to: apart(at, end),
        });
        downs.current.clear();
      }
      pinch.current = undefined;
      return;
    }
    if (looking) return card(d.at, true);
    if (d.far > slop && d.modifier) {
      const far = Math.hypot(at.x - d.at.x, at.y - d.at.y);
      const wide = at.y < d.at.y; // up spreads, down pinches
      void aim({ do: "pinch", at: d.at, from: wide ? 60 : 60 + far * 2, to: wide ? 60 + far * 2 : 60 });
    } else if (d.far > slop) {
      d.path.push({ ...at, at_ms: took });
      void aim({ do: "stroke", at: d.at, path: d.path });
    } else if (took >= holdAfter) void aim({ do: "hold", at: d.at, over_ms: took });
    else void aim({ do: e.detail >= 2 ? "twice" : "tap", at: d.at });
  };
  const scroll = (e: WheelEvent) => {
    const at = spot(e);
    if (e.ctrlKey) {
      void aim({ do: "pinch", at, from: 120, to: e.deltaY < 0 ? 220 : 60 });
      return;
    }
    const w = (wheel.current ??= { at, dx: 0, dy: 0, timer: 0 });
    w.dx -= e.deltaX / scale;
    w.dy -= e.deltaY / scale;
    w.timer ||= window.setTimeout(() => {
      wheel.current = undefined;
      const to = {
        x: Math.max(2, Math.min(width - 2, at.x + w.dx)),
        y: Math.max(2, Math.min(height - 2, at.y + w.dy)),
      };
      const part = (n: number) => ({
        x: at.x + (to.x - at.x) * n,
        y: at.y + (to.y - at.y) * n,
        at_ms: Math.round(n * 140),
      });
      void act({ do: "stroke", at, path: [0, 0.25, 0.5, 0.75, 1].map(part) });
    }, 60);
  };

  const flush = () => {
    clearTimeout(typing.current);
    typing.current = 0;
    const text = typed.current;
    typed.current = "";
    if (text) void act({ do: "text", text });
  };
  const enter = (text: string) => {
    typed.current += text;
    typing.current ||= window.setTimeout(flush, 40);
  };
  const press = (e: KeyboardEvent<HTMLTextAreaElement>) => {
    if (e.nativeEvent.isComposing || e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "Escape") {
      if (looking) onCard(undefined, false);
      else {
        flush();
        void act({ do: "keys", text: "\ue00c" });
      }
      return;
    }
    const special = keys[e.key];
    if (special) {
      e.preventDefault();
      flush();
      void act({ do: "keys", text: special });
    }
  };

  return (
    <div ref={box} className="relative min-h-0 min-w-0 flex-1 overflow-hidden">
      <div className="absolute inset-0 grid place-items-center">
        <div className="relative" style={{ width: width * scale, height: height * scale }}>
          <canvas
            ref={canvas}
            role="img"
            aria-label={`The screen of ${device}`}
            className={`block h-full w-full touch-none rounded outline-1 outline-strong select-none ${looking ? "cursor-crosshair" : "cursor-default"}`}
            onPointerDown={down}
            onPointerMove={move}
            onPointerUp={up}
            onPointerCancel={() => {
              downs.current.clear();
              setFingers([]);
            }}
            onPointerLeave={() => clearTimeout(rest.current)}
            onContextMenu={(e) => {
              e.preventDefault();
              card(spot(e), true);
            }}
            onWheel={scroll}
          />
          {marks.map((m, i) => (
            <span
              key={i}
              aria-hidden="true"
              className="pointer-events-none absolute border-2 border-vermilion"
              style={{
                left: m.x * scale - 4,
                top: m.y * scale - 4,
                width: m.w * scale + 8,
                height: m.h * scale + 8,
                boxShadow: "0 0 0 1px var(--paper)",
              }}
            />
          ))}
          {fingers.map((f, i) => (
            <span
              key={i}
              aria-hidden="true"
              className="pointer-events-none absolute h-7 w-7 -translate-1/2 rounded-full border-2 border-ink bg-paper opacity-50"
              style={{ left: f.x * scale, top: f.y * scale }}
            />
          ))}
          <textarea
            ref={entry}
            aria-label={`Type into ${device}`}
            autoCapitalize="off"
            autoComplete="off"
            spellCheck={false}
            className="pointer-events-none absolute inset-0 h-full w-full resize-none rounded bg-transparent text-transparent caret-transparent focus-visible:outline-2 focus-visible:outline-petrol"
            onKeyDown={press}
            onInput={(e) => {
              const t = e.currentTarget;
              if (e.nativeEvent.isComposing) return;
              enter(t.value);
              t.value = "";
            }}
            onCompositionEnd={(e) => {
              enter(e.currentTarget.value);
              e.currentTarget.value = "";
            }}
            onPaste={(e) => {
              e.preventDefault();
              const text = e.clipboardData.getData("text");
              flush();
              if (text) void act({ do: "text", text });
            }}
          />
        </div>
      </div>
    </div>
  );
}
