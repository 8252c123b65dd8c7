/** A text to read: line numbers, syntax colours, search with Ctrl+F within it. */
import { search, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState } from "@codemirror/state";
import { drawSelection, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { languageOf } from "./languages";
import { look } from "./look";

const tall = EditorView.theme({ "&": { maxHeight: "calc(100vh - 260px)", minHeight: "120px" } });

export default function ReadText({ path, text, label }: { path: string; text: string; label: string }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!place.current) return;
    const language = new Compartment();
    const view = new EditorView({
      parent: place.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          drawSelection(),
          search({ top: true }),
          look,
          tall,
          language.of([]),
          keymap.of(searchKeymap),
          EditorState.readOnly.of(true),
          EditorView.editable.of(false),
          EditorView.contentAttributes.of({ "aria-label": label, "aria-readonly": "true", tabindex: "0" }),
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
  return <div ref={place} className="reads" />;
}
