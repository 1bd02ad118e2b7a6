import { useState } from "react";
import { type Answer, type Order } from "../../data/session";
import { Pick } from "../../parts/start/pick";

/** One line of script, or of the app's console, and what came of it. */
export function Prompt({
  mine,
  act,
  evaluates,
}: {
  mine: boolean;
  act: (o: Order) => Promise<Answer>;
  evaluates: boolean;
}) {
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
