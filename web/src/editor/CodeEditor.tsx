// An editor for policy text and expressions, with errors in place.
import { autocompletion, closeBrackets, type CompletionContext } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { Box } from "@chakra-ui/react";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Schemas } from "../api/client";

export type TextError = Schemas["TextError"];

const keywords = new Set(
  `service group area layer permit reject apart off assert never always only any outside workload on within until log include exclude
   owner same across or and not has lacks address in member of is starts ends contains matches`.split(/\s+/),
);

const language = StreamLanguage.define<null>({
  startState: () => null,
  token(stream) {
    if (stream.eatSpace()) return null;
    if (stream.match(/^#.*/)) return "comment";
    if (stream.match(/^"(?:[^"\\]|\\.)*"?/)) return "string";
    if (stream.match(/^->/)) return "operator";
    const word = stream.match(/^[A-Za-z0-9_:][A-Za-z0-9_.:/-]*/) as RegExpMatchArray | null;
    if (word) {
      const w = word[0];
      if (keywords.has(w)) return "keyword";
      return /^(tcp|udp|sctp|icmp6?|proto)(\/|$)|^[0-9.]+(\/\d+)?$/.test(w) ? "number" : "variableName";
    }
    stream.next();
    return null;
  },
});

const highlight = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--chakra-colors-accent)" },
  { tag: tags.comment, color: "var(--chakra-colors-soft)", fontStyle: "italic" },
  { tag: tags.string, color: "var(--chakra-colors-soft)" },
  { tag: tags.number, color: "var(--chakra-colors-permit)" },
  { tag: tags.operator, color: "var(--chakra-colors-accent)" },
]);

const theme = EditorView.theme({
  "&": { fontSize: "13px", backgroundColor: "var(--chakra-colors-sheet)", height: "100%" },
  "&.cm-focused": { outline: "none" },
  ".cm-scroller": { fontFamily: "'IBM Plex Mono', monospace", lineHeight: "1.5" },
  ".cm-content": { caretColor: "var(--chakra-colors-accent)" },
  ".cm-cursor": { borderLeftColor: "var(--chakra-colors-accent)" },
  ".cm-gutters": { backgroundColor: "transparent", color: "var(--chakra-colors-soft)", border: "none" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": {
    backgroundColor: "var(--chakra-colors-tintStrong) !important",
  },
  ".cm-tooltip": {
    backgroundColor: "var(--chakra-colors-sheet)",
    color: "var(--chakra-colors-ink)",
    border: "1px solid var(--chakra-colors-line)",
  },
  ".cm-tooltip-autocomplete ul li[aria-selected]": {
    backgroundColor: "var(--chakra-colors-tintStrong)",
    color: "var(--chakra-colors-ink)",
  },
});

type Props = {
  value: string;
  onChange: (text: string) => void;
  errors: TextError[];
  label: string;
  numbered?: boolean;
  words?: string[]; // to complete with
  onSave?: () => void; // Ctrl Enter
  height?: string;
  autoFocus?: boolean;
};

export function CodeEditor({ value, onChange, errors, label, numbered, words, onSave, height, autoFocus }: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const live = useRef({ onChange, onSave, words });
  useEffect(() => {
    live.current = { onChange, onSave, words };
  });
  useEffect(() => {
    const complete = (c: CompletionContext) => {
      const word = c.matchBefore(/[A-Za-z0-9_:][A-Za-z0-9_.:/-]*/);
      if (!word && !c.explicit) return null;
      return {
        from: word?.from ?? c.pos,
        options: (live.current.words ?? []).map((label) => ({ label })),
        validFor: /^[A-Za-z0-9_.:/-]*$/,
      };
    };
    const v = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: value,
        extensions: [
          history(),
          closeBrackets(),
          language,
          syntaxHighlighting(highlight),
          theme,
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" }),
          autocompletion({ override: [complete] }),
          keymap.of([
            { key: "Mod-Enter", run: () => (live.current.onSave?.(), true) },
            ...defaultKeymap,
            ...historyKeymap,
          ]),
          EditorView.updateListener.of((u) => u.docChanged && live.current.onChange(u.state.doc.toString())),
          ...(numbered ? [lineNumbers(), lintGutter()] : []),
        ],
      }),
    });
    view.current = v;
    if (autoFocus) v.focus();
    return () => v.destroy();
    // The editor is made once; later values are put in below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label, numbered, autoFocus]);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== value)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } });
  }, [value]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const doc = v.state.doc;
    const found: Diagnostic[] = errors.map((e) => {
      const line = doc.line(Math.min(Math.max(1, e.line), doc.lines));
      const from = Math.min(line.from + Math.max(0, e.column - 1), line.to);
      const word = /^\S+/.exec(doc.sliceString(from, line.to))?.[0].length ?? 0;
      return {
        from: word ? from : Math.max(line.from, from - 1),
        to: Math.min(line.to, from + Math.max(1, word)),
        severity: "error",
        message: e.message,
      };
    });
    v.dispatch(setDiagnostics(v.state, found));
  }, [errors]);
  return (
    <Box
      ref={host}
      h={height}
      minH={height ? undefined : "40px"}
      overflow="hidden"
      borderWidth="1px"
      borderColor="line"
      borderRadius="5px"
      bg="sheet"
      _focusWithin={{ borderColor: "accent" }}
    />
  );
}
