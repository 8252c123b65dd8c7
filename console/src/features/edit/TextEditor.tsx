/** A text with syntax colours, line numbers, search and undo; Tab leaves it, as everywhere on a page. */
import { defaultKeymap, history, historyKeymap, indentLess, indentMore } from "@codemirror/commands";
import { bracketMatching, foldGutter, foldKeymap, indentOnInput } from "@codemirror/language";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, highlightActiveLineGutter, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { languageOf } from "../text/languages";
import { look } from "../text/look";

const tall = EditorView.theme({ "&": { height: "calc(100vh - 270px)", minHeight: "320px" } });

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
          look,
          tall,
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
