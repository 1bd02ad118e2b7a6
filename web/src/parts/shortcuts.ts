import { useEffect, useRef } from "react";

/**
 * Keys with what they do, in words. A page gives each of a table's keys something to do (useShortcuts), and the list of
 * keys is made of the same tables (keys.tsx): what is listed works, and what works is listed.
 */
export type Keys = Readonly<Record<string, string>>;

export const everywhere = {
  "/": "find a run, build, suite, case or device",
  s: "start a run",
  g: "then a letter: go to a place",
  t: "day or night",
  "?": "these keys",
} as const satisfies Keys;

export const inHand = {
  d: "go to the device: what you type goes there",
  ":": "go to the line of script",
  i: "look inside, or no more",
  p: "keep a picture",
  m: "mark this moment",
} as const satisfies Keys;

/** Whether a key is meant for what it was pressed in: a field, a dialog, a menu. */
export function isTyping(e: KeyboardEvent): boolean {
  return (
    e.ctrlKey ||
    e.metaKey ||
    e.altKey ||
    (e.target instanceof Element &&
      e.target.closest(
        "input, textarea, select, [contenteditable=true], [role=dialog], [role=menu], [data-radix-popper-content-wrapper]",
      ) !== null)
  );
}

/** Has the keys of a table do something for as long as on is true. first is asked before, and may take a key for itself. */
export function useShortcuts<K extends Keys>(
  _table: K,
  does: Record<keyof K, () => void>,
  { on = true, first }: { on?: boolean; first?: (key: string) => boolean } = {},
) {
  const now = useRef({ does, first });
  now.current = { does, first };
  useEffect(() => {
    if (!on) return;
    const press = (e: KeyboardEvent) => {
      if (isTyping(e)) return;
      if (now.current.first?.(e.key)) return e.preventDefault();
      const act = (now.current.does as Record<string, (() => void) | undefined>)[e.key];
      if (!act) return;
      e.preventDefault();
      act();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [on]);
}
