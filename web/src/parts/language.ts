// The script language as the service tells it: what colours and completes scripts.
import { HighlightStyle, StreamLanguage } from "@codemirror/language";
import { tags } from "@lezer/highlight";
import { get, type ScriptLanguage } from "../data/api";

let words: Promise<ScriptLanguage> | undefined;

/** The language's words, asked for once. */
export const theLanguage = () =>
  (words ??= get<ScriptLanguage>("/api/v1/language").catch((e: unknown) => {
    words = undefined;
    throw e;
  }));

/** Colours scripts by the words of the language. */
export const coloured = (l: ScriptLanguage) => {
  const known = new Set([...l.words, ...l.roles]);
  return StreamLanguage.define<object>({
    startState: () => ({}),
    languageData: { commentTokens: { line: "//" } },
    token(s) {
      if (s.eatSpace()) return null;
      if (s.match(/^\/\/.*/)) return "comment";
      if (s.match(/^"(\\.|[^"\\])*"?/)) return "string";
      if (s.match(/^\/(\\.|[^/\\\s])(\\.|[^/\\])*\//)) return "regexp";
      if (s.match(/^#[\w.:-]+/)) return "name";
      if (s.match(/^\$[\p{L}_][\p{L}\d_.-]*/u)) return "variableName";
      if (s.match(/^\d+(\.\d+)?(ms|s|m|h|%|kB|MB|GB|st|nd|rd|th)?\b/i)) return "number";
      const word = s.match(/^[\p{L}_][\p{L}\d_-]*/u) as RegExpMatchArray | null;
      if (word) return known.has(word[0].toLowerCase()) ? "keyword" : null;
      s.next();
      return null;
    },
  });
};

export const inks = HighlightStyle.define([
  { tag: tags.keyword, fontWeight: "500" },
  { tag: tags.string, color: "var(--petrol)" },
  { tag: tags.regexp, color: "var(--petrol)" },
  { tag: tags.comment, color: "var(--ink-faint)", fontStyle: "italic" },
  { tag: [tags.name, tags.variableName], color: "var(--ink-soft)", fontWeight: "500" },
]);
