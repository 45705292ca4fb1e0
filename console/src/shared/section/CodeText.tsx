import { autocompletion, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, insertNewline } from "@codemirror/commands";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { tags } from "@lezer/highlight";
import { EditorView, drawSelection, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";

import type { Schemas } from "../api/client";

/** A word that the book knows, with what it means. */
export interface BookWord {
  word: string;
  about: string;
}

interface Props {
  label: string;
  value: string;
  mistakes: Schemas["DraftMistake"][];
  words: BookWord[];
  onChange: (text: string) => void;
}

const LOOK = EditorView.theme({
  "&": { backgroundColor: "var(--color-base-100)", color: "var(--color-base-content)", border: "1px solid var(--color-base-300)", borderRadius: "var(--radius-box)", overflow: "hidden", fontSize: "13.5px" },
  "&.cm-focused": { outline: "2px solid var(--color-primary)", outlineOffset: "1px" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "1.5", minHeight: "12rem", maxHeight: "36rem" },
  ".cm-gutters": { backgroundColor: "var(--color-base-200)", color: "color-mix(in oklab, var(--color-base-content) 72%, transparent)", border: "none" },
  ".cm-activeLine": { backgroundColor: "color-mix(in oklab, var(--color-primary) 8%, transparent)" },
  ".cm-cursor": { borderLeftColor: "var(--color-base-content)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "color-mix(in oklab, var(--color-primary) 28%, transparent) !important" },
  ".cm-tooltip": { backgroundColor: "var(--color-base-100)", color: "var(--color-base-content)", border: "1px solid var(--color-base-300)" },
  ".cm-tooltip-autocomplete > ul > li[aria-selected]": { backgroundColor: "var(--color-primary)", color: "var(--color-primary-content)" },
});

const COLOURS = HighlightStyle.define([
  { tag: tags.atom, color: "var(--color-primary)", fontWeight: "600" },
  { tag: tags.string, color: "var(--color-success)" },
  { tag: [tags.number, tags.bool], color: "color-mix(in oklab, var(--color-accent) 75%, var(--color-base-content))" },
  { tag: tags.comment, color: "color-mix(in oklab, var(--color-base-content) 72%, transparent)", fontStyle: "italic" },
]);

/** A section as text, with its mistakes in the margin; Ctrl+Space offers what the book knows. */
export default function CodeText({ label, value, mistakes, words, onChange }: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const latest = useRef({ value, words, onChange });
  useEffect(() => {
    latest.current = { value, words, onChange };
  });
  useEffect(() => {
    if (!host.current) return;
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: latest.current.value,
        extensions: [
          lineNumbers(),
          lintGutter(),
          history(),
          drawSelection(),
          highlightActiveLine(),
          EditorView.lineWrapping,
          StreamLanguage.define(toml),
          syntaxHighlighting(COLOURS),
          autocompletion({
            override: [
              (context) => {
                // A comment is the writer's own.
                if (context.state.doc.lineAt(context.pos).text.slice(0, context.pos - context.state.doc.lineAt(context.pos).from).includes("#")) return null;
                const typed = context.matchBefore(/[\w-]+/);
                if (!typed && !context.explicit) return null;
                const options = latest.current.words.map(({ word, about }) => ({ label: word, info: about, type: "property" }));
                return { from: typed?.from ?? context.pos, options, validFor: /^[\w-]*$/ };
              },
            ],
          }),
          keymap.of([...completionKeymap, { key: "Enter", run: insertNewline }, ...defaultKeymap, ...historyKeymap]),
          EditorView.contentAttributes.of({ "aria-label": label }),
          EditorView.updateListener.of((update) => {
            const text = update.state.doc.toString();
            // What was put there from outside was typed by nobody.
            if (update.docChanged && text !== latest.current.value) latest.current.onChange(text);
          }),
          LOOK,
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, [label]);
  useEffect(() => {
    const editor = view.current;
    if (!editor || editor.state.doc.toString() === value) return;
    editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: value } });
  }, [value]);
  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const { doc } = editor.state;
    const told = mistakes.map((mistake) => {
      const line = doc.line(Math.max(1, Math.min(doc.lines, mistake.line)));
      return { from: line.from, to: line.to, severity: "error" as const, message: mistake.message };
    });
    editor.dispatch(setDiagnostics(editor.state, told));
  }, [mistakes]);
  return <div ref={host} />;
}
