/** Two texts side by side: equal lines folded, words that differ marked, from one change to the next by button or key. */
import { Change, goToNextChunk, goToPreviousChunk, MergeView, presentableDiff } from "@codemirror/merge";
import { Compartment, EditorState, type Extension } from "@codemirror/state";
import { drawSelection, EditorView, lineNumbers } from "@codemirror/view";
import { useEffect, useRef, useState } from "react";
import { group } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { languageOf } from "./languages";
import { look } from "./look";
import { wholeWords } from "./wholeWords";

const FOLDED = { margin: 4, minSize: 10 };
/** Of very different texts only so much is looked into word by word; the rest is marked as whole lines. */
const BOUND = { scanLimit: 2000, timeout: 1500 };
const byWords = (a: string, b: string) =>
  wholeWords(a, b, presentableDiff(a, b, BOUND)).map((one) => new Change(one.fromA, one.toA, one.fromB, one.toB));

const marks = EditorView.theme({
  "&.cm-merge-a .cm-changedLine, &.cm-merge-b .cm-changedLine": { backgroundColor: "var(--wash)" },
  "&.cm-merge-a .cm-changedText, &.cm-merge-b .cm-changedText": {
    background: "none",
    textDecoration: "var(--through)",
    textDecorationColor: "var(--mark)",
    textDecorationThickness: "1.5px",
  },
  ".cm-insertedLine, .cm-deletedLine": { textDecoration: "none" },
  "&.cm-merge-a .cm-changedLineGutter, &.cm-merge-b .cm-changedLineGutter": { background: "var(--mark)" },
  "&.cm-merge-a .cm-collapsedLines, &.cm-merge-b .cm-collapsedLines": {
    background: "var(--sunk)",
    color: "var(--ink-2)",
    fontFamily: "var(--sans)",
    padding: "2px 12px",
  },
  ".cm-collapsedLines:before, .cm-collapsedLines:after": { content: "none" },
  ".cm-mergeSpacer": { background: "var(--sunk)" },
});
const WORDS = EditorState.phrases.of({ "$ unchanged lines": "$ equal lines" });

interface Props {
  /** Name of the artifact: says which syntax it has. */
  path: string;
  before: string;
  after: string;
  labels: [string, string];
  /** Keys n and p go through the changes; not where they go through findings already. */
  keys?: boolean;
}

export default function SideBySide({ path, before, after, labels, keys = false }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<MergeView>(null);
  const [changes, setChanges] = useState(0);
  const [at, setAt] = useState(0);
  const [all, setAll] = useState(false);
  const [left, right] = labels;
  useEffect(() => {
    if (!place.current) return;
    const language = new Compartment();
    const side = (label: string): Extension => [
      lineNumbers(),
      drawSelection(),
      look,
      marks,
      WORDS,
      language.of([]),
      EditorView.lineWrapping,
      EditorState.readOnly.of(true),
      EditorView.editable.of(false),
      EditorView.contentAttributes.of({ "aria-label": label, "aria-readonly": "true", tabindex: "0" }),
    ];
    const made = new MergeView({
      parent: place.current,
      a: { doc: before, extensions: side(left) },
      b: { doc: after, extensions: side(right) },
      collapseUnchanged: FOLDED,
      diffConfig: { override: byWords },
    });
    view.current = made;
    setChanges(made.chunks.length);
    setAt(0);
    setAll(false);
    let gone = false;
    void languageOf(path, after || before).then((found) => {
      if (!gone) for (const one of [made.a, made.b]) one.dispatch({ effects: language.reconfigure(found) });
    });
    return () => {
      gone = true;
      made.destroy();
    };
  }, [path, before, after, left, right]);
  const go = (by: 1 | -1) => {
    const made = view.current;
    if (!made) return;
    (by > 0 ? goToNextChunk : goToPreviousChunk)(made.b);
    const here = made.b.state.selection.main.head;
    const found = made.chunks.findIndex((chunk) => chunk.fromB === here);
    setAt(found + 1);
  };
  useEffect(() => {
    if (!keys) return;
    const step = (event: KeyboardEvent) => {
      if (event.target instanceof HTMLElement && /INPUT|TEXTAREA|SELECT/.test(event.target.tagName)) return;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "n") go(1);
      if (event.key === "p") go(-1);
    };
    window.addEventListener("keydown", step);
    return () => window.removeEventListener("keydown", step);
  });
  const unfold = () => {
    view.current?.reconfigure({ collapseUnchanged: all ? FOLDED : undefined });
    setAll(!all);
  };
  return (
    <>
      <div className="line1 bar">
        <span role="status">
          {changes === 0
            ? "The same, letter by letter"
            : `${at ? `Change ${group(at)} of ` : ""}${group(changes)}${at ? "" : changes === 1 ? " change" : " changes"}`}
        </span>
        {changes > 0 && (
          <>
            <TextAct onClick={() => go(1)}>Next change</TextAct>
            <TextAct onClick={() => go(-1)}>Previous change</TextAct>
            <TextAct onClick={unfold}>{all ? "Fold equal lines" : "Show equal lines"}</TextAct>
            {keys && (
              <span className="cap">
                <kbd>n</kbd> next <kbd>p</kbd> previous
              </span>
            )}
          </>
        )}
      </div>
      <div ref={place} className="twotexts" />
    </>
  );
}
