import { syntaxHighlighting } from "@codemirror/language";
import { unifiedMergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { EditorView, lineNumbers } from "@codemirror/view";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useGet, type Suite, type SuiteText } from "../data/api";
import { isScript } from "../data/names";
import { at } from "../data/time";
import { look } from "./editor-look";
import { coloured, inks, theLanguage } from "./language";
import { Trouble, Waiting } from "./plain";
import { Pick } from "./start/pick";

/** The versions of a suite, and what differs between two of them. */
export function Versions({ suite }: { suite: Suite }) {
  const path = `suites/${encodeURIComponent(suite.name)}/revisions`;
  const list = useGet<Suite[]>(path);
  const [newer, setNewer] = useState(String(suite.revision));
  const [older, setOlder] = useState("");
  const all = list.data ?? [];
  const before = older || String(all.find((r) => r.revision < Number(newer))?.revision ?? newer);
  if (list.error) return <Trouble of={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Waiting what="the versions" />;
  const options: [string, string][] = all.map((r) => [
    String(r.revision),
    `revision ${r.revision}, ${r.by ? `${r.by}, ` : ""}${at(r.created_at)}`,
  ]);
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="flex flex-wrap items-center gap-2 py-2">
        <span className="text-soft">from</span>
        <Pick label="The older version" narrow value={before} onChange={setOlder} options={options} />
        <span className="text-soft">to</span>
        <Pick label="The newer version" narrow value={newer} onChange={setNewer} options={options} />
        {all.length === 1 && <span className="text-soft">There is one version so far.</span>}
      </div>
      <div className="min-h-0 flex-1 border-t border-rule">
        <Difference path={path} older={before} newer={newer} />
      </div>
    </div>
  );
}

function Difference({ path, older, newer }: { path: string; older: string; newer: string }) {
  const box = useRef<HTMLDivElement>(null);
  const a = useGet<SuiteText>(`${path}/${older}`);
  const b = useGet<SuiteText>(`${path}/${newer}`);
  const words = useQuery({ queryKey: ["language"], queryFn: theLanguage, staleTime: Infinity }).data;
  const from = a.data && whole(a.data);
  const to = b.data && whole(b.data);
  useEffect(() => {
    if (from === undefined || to === undefined || !box.current) return;
    const v = new EditorView({
      parent: box.current,
      state: EditorState.create({
        doc: to,
        extensions: [
          lineNumbers(),
          ...(words ? [coloured(words), syntaxHighlighting(inks)] : []),
          look,
          EditorState.readOnly.of(true),
          EditorView.editable.of(false),
          EditorView.contentAttributes.of({ "aria-label": "What differs", tabindex: "0" }),
          unifiedMergeView({ original: from, mergeControls: false, collapseUnchanged: { margin: 3, minSize: 6 } }),
        ],
      }),
    });
    return () => v.destroy();
  }, [from, to, words]);
  const trouble = a.error ?? b.error;
  if (trouble) return <Trouble of={trouble} />;
  if (from === to && from !== undefined) return <p className="py-3 text-soft">The two are the same.</p>;
  return <div ref={box} className="h-full overflow-hidden" />;
}

/** A suite's text with the files that it uses, one below the other. */
const whole = (t: SuiteText) =>
  [t.text, ...t.files.filter((f) => isScript(f.path)).map((f) => `\n// ${f.path}\n${textOf(f.content)}`)].join("");

const textOf = (base64: string) => new TextDecoder().decode(Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)));
