// How documents look, read or edited.
import { EditorView } from "@codemirror/view";

export const look = EditorView.theme({
  "&": { height: "100%", fontSize: "12px", backgroundColor: "transparent", color: "var(--ink)" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "20px" },
  ".cm-gutters": { backgroundColor: "transparent", color: "var(--ink-faint)", border: "none", borderRight: "1px solid var(--rule)" },
  ".cm-content": { padding: "8px 0" },
  "&.cm-focused": { outline: "none" },
  ".cm-marked": { textDecoration: "underline wavy var(--vermilion)", textUnderlineOffset: "3px" },
  ".cm-advised": { textDecoration: "underline dotted var(--petrol)", textUnderlineOffset: "3px" },
  ".cm-here": { backgroundColor: "var(--picked)" },
});
