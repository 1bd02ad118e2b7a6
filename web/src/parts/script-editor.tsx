import {
  autocompletion,
  completionKeymap,
  type Completion,
  type CompletionContext,
  type CompletionResult,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { syntaxHighlighting } from "@codemirror/language";
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { EditorState, RangeSet, StateEffect, StateField, type Text } from "@codemirror/state";
import { EditorView, gutter, GutterMarker, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";
import type { Finding, ScriptLanguage, SeenElement } from "../data/api";
import { look } from "./editor-look";
import { coloured, inks } from "./language";

/** How a line of a case that runs went. */
export type Went = { line: number; verdict: string; note?: string };

const setWent = StateEffect.define<Went[]>();

const shapes: Record<string, string> = { pass: "○", fail: "■", error: "▲", skip: "–", running: "◜" };

class WentMarker extends GutterMarker {
  constructor(readonly of: Went) {
    super();
  }
  override eq(o: WentMarker) {
    return o.of.verdict === this.of.verdict && o.of.note === this.of.note;
  }
  override toDOM() {
    const e = document.createElement("span");
    e.textContent = shapes[this.of.verdict] ?? "·";
    e.title = this.of.note ? `${this.of.verdict}: ${this.of.note}` : this.of.verdict;
    e.setAttribute("aria-label", e.title);
    e.className = `cm-went cm-went-${this.of.verdict}`;
    return e;
  }
}

const wentField = StateField.define<Went[]>({
  create: () => [],
  update(v, tr) {
    for (const e of tr.effects) if (e.is(setWent)) return e.value;
    return v;
  },
});

const wentGutter = gutter({
  class: "cm-went-gutter",
  markers: (v) => {
    const last = new Map<number, Went>();
    for (const w of v.state.field(wentField)) last.set(w.line, w); // a line that runs several times shows the last
    const doc = v.state.doc;
    const out = [...last.values()].filter((w) => w.line >= 1 && w.line <= doc.lines).sort((a, b) => a.line - b.line);
    return RangeSet.of(out.map((w) => new WentMarker(w).range(doc.line(w.line).from)));
  },
});

type Props = {
  text: string;
  language: ScriptLanguage;
  seen: SeenElement[];
  findings: Finding[];
  went: Went[];
  onChange: (text: string) => void;
  onSave: () => void;
  onLine: (line: number) => void;
  onRun: () => void;
};

/** A script that is written: findings as one types, completion, and how a running case goes, line by line. */
export function ScriptEditor(p: Props) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  const now = useRef(p);
  useEffect(() => {
    now.current = p;
  });
  useEffect(() => {
    const v = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: now.current.text,
        extensions: [
          keymap.of([
            { key: "Mod-s", run: () => (now.current.onSave(), true) },
            { key: "Mod-Enter", run: () => (now.current.onRun(), true) },
          ]),
          lineNumbers(),
          wentField,
          wentGutter,
          lintGutter(),
          history(),
          autocompletion({ override: [(c) => complete(c, now.current.language, now.current.seen)], icons: false }),
          keymap.of([...completionKeymap, ...lintKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab]),
          coloured(now.current.language),
          syntaxHighlighting(inks),
          look,
          EditorView.contentAttributes.of({
            "aria-label": "The suite's text; Ctrl-M lets Tab leave it",
            tabindex: "0",
          }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) now.current.onChange(u.state.doc.toString());
            if (u.docChanged || u.selectionSet)
              now.current.onLine(u.state.doc.lineAt(u.state.selection.main.head).number);
          }),
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
  }, []);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== p.text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: p.text } });
  }, [p.text]);
  useEffect(() => {
    const v = view.current;
    if (v)
      v.dispatch(
        setDiagnostics(
          v.state,
          p.findings.filter((f) => !f.file).map((f) => diagnostic(v.state.doc, f)),
        ),
      );
  }, [p.findings]);
  useEffect(() => {
    view.current?.dispatch({ effects: setWent.of(p.went) });
  }, [p.went]);
  return <div ref={box} className="h-full overflow-hidden" />;
}

function diagnostic(doc: Text, f: Finding): Diagnostic {
  const line = doc.line(Math.max(1, Math.min(f.line, doc.lines)));
  const from = Math.min(line.to, line.from + Math.max(0, f.column - 1));
  return {
    from,
    to: Math.min(line.to, Math.max(from + 1, from + f.length)),
    severity: f.advice ? "info" : "error",
    message: f.hint ? `${f.message}; ${f.hint}` : f.message,
  };
}

/** What may stand at the mark. */
function complete(c: CompletionContext, l: ScriptLanguage, seen: SeenElement[]): CompletionResult | null {
  const line = c.state.doc.lineAt(c.pos);
  const before = line.text.slice(0, c.pos - line.from);
  const quotes = before.match(/"/g)?.length ?? 0;
  if (quotes % 2 === 1) {
    const from = line.from + before.lastIndexOf('"') + 1;
    const texts = new Map<string, Completion>();
    for (const s of seen)
      if (s.text && !texts.has(s.text))
        texts.set(s.text, { label: s.text, detail: s.screen ? `on ${s.screen}` : s.role, type: "text" });
    return { from, options: [...texts.values()] };
  }
  const word = c.matchBefore(/[#$]?[\p{L}\d_.-]*$/u);
  if (!word || (word.from === word.to && !c.explicit)) return null;
  if (word.text.startsWith("#")) {
    const ids = new Map<string, Completion>();
    for (const s of seen)
      if (s.id && !ids.has(s.id))
        ids.set(s.id, {
          label: `#${s.id}`,
          detail: [s.role, s.text && `“${s.text}”`, s.screen && `on ${s.screen}`].filter(Boolean).join(" "),
          type: "property",
        });
    return { from: word.from, options: [...ids.values()] };
  }
  if (word.text.startsWith("$")) {
    const names = new Set<string>();
    for (const m of c.state.doc.toString().matchAll(/(?:\blet\s+|\$)([\p{L}_][\p{L}\d_-]*)/gu))
      if (m[1] && `$${m[1]}` !== word.text) names.add(m[1].toLowerCase());
    return { from: word.from, options: [...names].map((n) => ({ label: `$${n}`, type: "variable" })) };
  }
  if (before.trim() === word.text) {
    const inside = blockDepth(c.state.doc, line.number) > 0;
    const list = inside
      ? [...l.steps, { word: "end", usage: "closes the block" }, { word: "else", usage: "if … else … end" }]
      : l.file;
    return {
      from: word.from,
      options: list.map((w) => ({ label: w.word, detail: w.usage.split(" · ")[0], type: "keyword" })),
    };
  }
  if (/^\s*(let\s+\S+\s*=\s*)?do\s/.test(before)) {
    const at = before.indexOf("do ") + 3;
    const actions = [...c.state.doc.toString().matchAll(/^\s*action\s+(.+)$/gm)].map((m) => ({
      label: m[1]!.replace(/\s*\/\/.*$/, "").trim(),
      type: "function",
    }));
    return { from: line.from + at, options: actions };
  }
  return {
    from: word.from,
    options: [
      ...l.roles.map((r) => ({ label: r, type: "class", detail: "a role" })),
      ...l.words.map((w) => ({ label: w, type: "keyword" })),
    ],
  };
}

function blockDepth(doc: Text, line: number) {
  let depth = 0;
  for (let i = 1; i < line; i++) {
    const words = doc.line(i).text.trim().toLowerCase().split(/\s+/);
    if (words[0] === "end") depth = Math.max(0, depth - 1);
    else if (["case", "before", "after", "action", "if", "each"].includes(words[0]!) || words[1] === "times") depth++;
  }
  return depth;
}
