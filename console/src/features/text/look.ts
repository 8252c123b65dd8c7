/** How texts look, wherever they are read, compared or edited. */
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import type { Extension } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";

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

const frame = EditorView.theme({
  "&": {
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

export const look: Extension = [syntaxHighlighting(colours), frame];
