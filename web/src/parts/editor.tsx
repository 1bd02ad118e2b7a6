import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import { look } from "./editor-look";

const inks = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], fontWeight: "500" },
  { tag: [tags.string, tags.content], color: "var(--petrol)" },
  { tag: tags.comment, color: "var(--ink-faint)", fontStyle: "italic" },
]);

/** A document that is edited. Ctrl-S saves it; Tab leaves it. */
export function Editor({
  label,
  text,
  onChange,
  onSave,
}: {
  label: string;
  text: string;
  onChange: (text: string) => void;
  onSave: () => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  const calls = useRef({ onChange, onSave });
  useEffect(() => {
    calls.current = { onChange, onSave };
  });
  useEffect(() => {
    const v = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: text,
        extensions: [
          keymap.of([{ key: "Mod-s", run: () => (calls.current.onSave(), true) }]),
          lineNumbers(),
          history(),
          keymap.of([...defaultKeymap, ...historyKeymap]),
          yaml(),
          syntaxHighlighting(inks),
          look,
          EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" }),
          EditorView.updateListener.of((u) => u.docChanged && calls.current.onChange(u.state.doc.toString())),
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
    // the document is made once; what comes from outside is put in below
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label]);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);
  return <div ref={box} className="h-full overflow-hidden" />;
}
