/** SQL with colours and completion: the shelf's tables, their lists, and words of the language. Ctrl and Enter run it. */
import { autocompletion, type CompletionContext, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { PostgreSQL, sql } from "@codemirror/lang-sql";
import { bracketMatching } from "@codemirror/language";
import { EditorState, Prec } from "@codemirror/state";
import { drawSelection, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { look } from "../text/look";

const tall = EditorView.theme({ "&": { height: "190px" } });

// The lists of a shelf with their columns (docs/queries.md).
const LISTS = {
  commits: ["commit", "author", "time", "recorded", "summary", "description", "tasks", "labels"],
  artifacts: ["path", "kind", "version", "size", "author", "summary", "recorded", "effect", "headline"],
  versions: ["path", "version", "kind", "size", "effect", "headline", "commit", "author", "recorded", "content"],
  findings: [
    ...["path", "version", "kind", "action", "part", "type", "label", "field", "effect", "before", "after", "within"],
    ...["detail", "cut", "commit", "author", "recorded"],
  ],
  runs: ["experiment", "run", "branch", "state", "person", "began", "took_seconds", "command", "parameters", "metrics", "commit"],
};

interface Props {
  text: string;
  tables: string[];
  onChange: (text: string) => void;
  onRun: () => void;
}

export default function SqlEditor({ text, tables, onChange, onRun }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const now = useRef({ onChange, onRun, tables });
  now.current = { onChange, onRun, tables };
  const first = useRef(text);
  const shown = useRef<EditorView | null>(null);
  useEffect(() => {
    const view = shown.current;
    if (view && view.state.doc.toString() !== text) view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    if (!place.current) return;
    const paths = (context: CompletionContext) => {
      const begun = context.matchBefore(/'[^']*/);
      return begun
        ? { from: begun.from, options: now.current.tables.map((path) => ({ label: `'${path.replaceAll("'", "''")}'`, type: "class" })) }
        : null;
    };
    const view = new EditorView({
      parent: place.current,
      state: EditorState.create({
        doc: first.current,
        extensions: [
          lineNumbers(),
          history(),
          drawSelection(),
          bracketMatching(),
          sql({ dialect: PostgreSQL, schema: LISTS }),
          autocompletion(),
          EditorState.languageData.of(() => [{ autocomplete: paths }]),
          look,
          tall,
          Prec.highest(
            keymap.of([
              {
                key: "Mod-Enter",
                run: () => {
                  now.current.onRun();
                  return true;
                },
              },
            ]),
          ),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap]),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": "Query", "aria-multiline": "true", tabindex: "0" }),
          EditorView.updateListener.of((update) => update.docChanged && now.current.onChange(update.state.doc.toString())),
        ],
      }),
    });
    shown.current = view;
    return () => {
      shown.current = null;
      view.destroy();
    };
  }, []);
  return <div ref={place} className="editor" />;
}
