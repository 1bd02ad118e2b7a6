import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { EditorState, RangeSetBuilder } from "@codemirror/state";
import { Decoration, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Finding } from "../data/api";
import { look } from "./editor-look";

const doing = /^(start|tap|put|type|press|picture|let|expect|suite|case|before|each|end|tags|patience|keep|app|fresh|between|cases|into|times|of|as|in|no|shows|at|least|most|within|number|called|last|\d+(st|nd|rd|th))\b/i;

// The words of the language; docs/script.md.
const language = StreamLanguage.define<{ start: boolean }>({
  startState: () => ({ start: true }),
  token(s) {
    if (s.eatSpace()) return null;
    if (s.match(/^\/\/.*/)) return "comment";
    if (s.match(/^"(\\.|[^"\\])*"?/)) return "string";
    if (s.match(/^\/(\\.|[^/\\])+\//)) return "regexp";
    if (s.match(/^#[\w.-]+/)) return "name";
    if (s.match(/^\$\w+/)) return "variableName";
    if (s.match(doing)) return "keyword";
    if (s.match(/^\d+(\.\d+)?(ms|s|m)?\b/)) return "number";
    s.next();
    s.eatWhile(/\w/);
    return null;
  },
});

const inks = HighlightStyle.define([
  { tag: tags.keyword, fontWeight: "500" },
  { tag: tags.string, color: "var(--petrol)" },
  { tag: tags.regexp, color: "var(--petrol)" },
  { tag: tags.comment, color: "var(--ink-faint)", fontStyle: "italic" },
  { tag: [tags.name, tags.variableName], color: "var(--ink-soft)", fontWeight: "500" },
]);

/** A script's text with the marks of the check. */
export function ScriptText({ text, findings, line }: { text: string; findings: Finding[]; line?: number }) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  useEffect(() => {
    const doc = EditorState.create({ doc: text }).doc;
    const at = (l: number, column: number) => {
      const on = doc.line(Math.max(1, Math.min(l, doc.lines)));
      return Math.min(on.to, on.from + Math.max(0, column - 1));
    };
    const marks = new RangeSetBuilder<Decoration>();
    const here = line && line <= doc.lines ? doc.line(line).from : -1;
    const list: { from: number; to: number; mark: Decoration; title: boolean }[] = findings.map((f) => {
      const from = at(f.line, f.column);
      const to = Math.max(from + 1, Math.min(doc.length, from + Math.max(1, f.length)));
      return { from, to, title: true, mark: Decoration.mark({ class: f.advice ? "cm-advised" : "cm-marked", attributes: { title: f.hint ? `${f.message} ${f.hint}` : f.message } }) };
    });
    if (here >= 0) list.push({ from: here, to: here, title: false, mark: Decoration.line({ class: "cm-here" }) });
    list.sort((a, b) => a.from - b.from || Number(a.title) - Number(b.title));
    for (const m of list) if (m.to <= doc.length) marks.add(m.from, m.to, m.mark);
    const v = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          language,
          syntaxHighlighting(inks),
          look,
          EditorState.readOnly.of(true),
          EditorView.editable.of(false),
          EditorView.contentAttributes.of({ "aria-label": "The suite's text", tabindex: "0" }),
          EditorView.decorations.of(marks.finish()),
          keymap.of([]),
        ],
      }),
    });
    view.current = v;
    if (here >= 0) v.dispatch({ effects: EditorView.scrollIntoView(here, { y: "center" }) });
    return () => v.destroy();
  }, [text, findings, line]);
  return <div ref={box} className="h-full overflow-hidden" />;
}
