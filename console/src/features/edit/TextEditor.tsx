/** A text with syntax colours, line numbers, search and undo; Tab leaves it, as everywhere on a page. */
import { defaultKeymap, history, historyKeymap, indentLess, indentMore } from "@codemirror/commands";
import { bracketMatching, foldGutter, foldKeymap, HighlightStyle, indentOnInput, syntaxHighlighting } from "@codemirror/language";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, highlightActiveLineGutter, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import { languageOf } from "./languages";

// Ink, accent and weight: colours of change mean change here too, and are not used for syntax.
const colours = HighlightStyle.define([
  {
    tag: [tags.keyword, tags.tagName, tags.heading, tags.definitionKeyword],
    color: "var(--accent)",
    fontWeight: "600",
  },
  {
    tag: [tags.propertyName, tags.attributeName, tags.definition(tags.variableName)],
    color: "var(--ink)",
    fontWeight: "600",
  },
  { tag: [tags.string, tags.attributeValue, tags.special(tags.string)], color: "var(--syntax-text)" },
  { tag: [tags.number, tags.bool, tags.null, tags.atom], color: "var(--syntax-value)" },
  { tag: [tags.comment, tags.meta, tags.processingInstruction], color: "var(--ink-3)", fontStyle: "italic" },
  { tag: tags.invalid, textDecoration: "underline wavy var(--removed)" },
]);

const look = EditorView.theme({
  "&": {
    height: "calc(100vh - 270px)",
    minHeight: "320px",
    fontSize: "13px",
    backgroundColor: "var(--sheet)",
    color: "var(--ink)",
  },
  "&.cm-focused": { outline: "2px solid var(--accent)", outlineOffset: "-2px" },
  ".cm-scroller": { fontFamily: "var(--mono)", lineHeight: "19px" },
  ".cm-gutters": {
    backgroundColor: "var(--paper)",
    color: "var(--ink-3)",
    border: "0",
    borderRight: "1px solid var(--line)",
  },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "color-mix(in srgb, var(--accent) 6%, transparent)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "var(--accent-wash)",
  },
  ".cm-panels": { backgroundColor: "var(--board)", color: "var(--ink)" },
  ".cm-matchingBracket": { backgroundColor: "var(--accent-wash)", outline: "1px solid var(--accent)" },
});

interface Props {
  path: string;
  text: string;
  label: string;
  onChange: (text: string) => void;
}

export default function TextEditor({ path, text, label, onChange }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const changed = useRef(onChange);
  changed.current = onChange;
  useEffect(() => {
    if (!place.current) return;
    const language = new Compartment();
    const view = new EditorView({
      parent: place.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          foldGutter(),
          history(),
          drawSelection(),
          indentOnInput(),
          bracketMatching(),
          highlightActiveLine(),
          highlightActiveLineGutter(),
          highlightSelectionMatches(),
          search({ top: true }),
          syntaxHighlighting(colours),
          look,
          language.of([]),
          keymap.of([
            ...defaultKeymap,
            ...historyKeymap,
            ...searchKeymap,
            ...foldKeymap,
            { key: "Mod-]", run: indentMore },
            { key: "Mod-[", run: indentLess },
          ]),
          EditorView.contentAttributes.of({ "aria-label": label, "aria-multiline": "true", tabindex: "0" }),
          EditorView.updateListener.of((update) => update.docChanged && changed.current(update.state.doc.toString())),
        ],
      }),
    });
    let gone = false;
    void languageOf(path, text).then((found) => {
      if (!gone) view.dispatch({ effects: language.reconfigure(found) });
    });
    return () => {
      gone = true;
      view.destroy();
    };
  }, [path, text, label]);
  return <div ref={place} className="editor" />;
}
