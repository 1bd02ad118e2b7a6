import { syntaxHighlighting } from "@codemirror/language";
import { EditorState, RangeSetBuilder } from "@codemirror/state";
import { Decoration, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import type { Finding } from "../data/api";
import { look } from "./editor-look";
import { coloured, inks, theLanguage } from "./language";

/** A script's text with the marks of the check. */
export function ScriptText({
  text,
  findings,
  line,
  label = "The suite's text",
}: {
  text: string;
  findings: Finding[];
  line?: number;
  label?: string;
}) {
  const box = useRef<HTMLDivElement>(null);
  const language = useQuery({ queryKey: ["language"], queryFn: theLanguage, staleTime: Infinity });
  const words = language.data;
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
      return {
        from,
        to,
        title: true,
        mark: Decoration.mark({
          class: f.advice ? "cm-advised" : "cm-marked",
          attributes: { title: f.hint ? `${f.message} ${f.hint}` : f.message },
        }),
      };
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
          ...(words ? [coloured(words), syntaxHighlighting(inks)] : []),
          look,
          EditorState.readOnly.of(true),
          EditorView.editable.of(false),
          EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" }),
          EditorView.decorations.of(marks.finish()),
          keymap.of([]),
        ],
      }),
    });
    if (here >= 0) v.dispatch({ effects: EditorView.scrollIntoView(here, { y: "center" }) });
    return () => v.destroy();
  }, [text, findings, line, words, label]);
  return <div ref={box} className="h-full overflow-hidden" />;
}
