/** A notebook as it reads: Markdown set, code in colours, outputs below what made them. */
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { blob } from "../../api/client";
import { count, group } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Loading, ProblemBox } from "../../shell/states";
import { CodeText } from "../text/CodeText";
import { Markdown } from "../text/Markdown";
import { SafePage } from "../text/SafePage";
import { type Cell, type Output, readNotebook } from "./notebook";

const AT_ONCE = 100;
const MOST_LINES = 60;

interface Props {
  shelf: string;
  path: string;
  at: string;
  version?: string;
}

export function NotebookView({ shelf, path, at, version }: Props) {
  const found = useQuery({
    queryKey: ["shelf", shelf, "notebook", path, at, version],
    queryFn: async () => (await blob(`shelves/${shelf}/artifact/file`, { path, ref: at, version })).text(),
  });
  const [shown, setShown] = useState(AT_ONCE);
  const read = useMemo(() => {
    if (found.data === undefined) return null;
    try {
      return readNotebook(found.data);
    } catch (error) {
      return error instanceof Error ? error : new Error(String(error));
    }
  }, [found.data]);
  if (found.isError) return <ProblemBox error={found.error} />;
  if (read === null) return <Loading what="Reading the cells" />;
  if (read instanceof Error)
    return <p className="sheet empty">It cannot be shown as cells: {read.message}. See it as an outline or as text.</p>;
  const code = read.cells.filter((cell) => cell.type === "code");
  const runs = code.flatMap((cell) => (cell.count === null ? [] : [cell.count]));
  const inOrder = runs.every((run, n) => n === 0 || run > (runs[n - 1] ?? 0));
  return (
    <section className="sheet notebook" aria-label="Cells">
      <div className="ph">
        <h2 className="h3">Cells</h2>
        <span className="cap">
          {count(read.cells.length, "cell")}, {group(code.length)} of {read.language}
          {runs.length === 0 ? ", never run" : inOrder ? ", run from top to bottom" : ", not run from top to bottom"}
        </span>
      </div>
      {read.cells.slice(0, shown).map((cell, n) => (
        <CellShown key={n} cell={cell} language={read.language} place={n + 1} />
      ))}
      {read.cells.length > shown && (
        <p className="pad">
          <TextAct onClick={() => setShown(shown + AT_ONCE)}>Show more cells</TextAct>{" "}
          <span className="cap">
            {group(shown)} of {group(read.cells.length)} are shown
          </span>
        </p>
      )}
    </section>
  );
}

function CellShown({ cell, language, place }: { cell: Cell; language: string; place: number }) {
  return (
    <article className={`nbcell ${cell.type}`} aria-label={`Cell ${place}`}>
      <span className="n" title={cell.type === "code" ? (cell.count === null ? "never run" : `run as number ${cell.count}`) : cell.type}>
        {cell.type === "code" ? (cell.count ?? "–") : ""}
      </span>
      <div className="of">
        {cell.type === "markdown" ? (
          <Markdown text={cell.source} />
        ) : cell.type === "code" ? (
          <CodeText code={cell.source} language={language} />
        ) : (
          <pre className="setcode">{cell.source}</pre>
        )}
        {cell.outputs.map((output, n) => (
          <OutputShown key={n} output={output} label={`Output ${n + 1} of cell ${place}`} />
        ))}
      </div>
    </article>
  );
}

function OutputShown({ output, label }: { output: Output; label: string }) {
  const [all, setAll] = useState(false);
  if (output.form === "picture") return <img className="output" src={output.src} alt={label} />;
  if (output.form === "markdown") return <Markdown text={output.text} />;
  if (output.form === "html") return <SafePage html={output.text} label={label} />;
  const lines = output.text.split("\n");
  return (
    <div className={output.isError ? "output error" : "output"} role="region" aria-label={output.isError ? `${label}, an error` : label}>
      <pre>{all ? output.text : lines.slice(0, MOST_LINES).join("\n")}</pre>
      {!all && lines.length > MOST_LINES && <TextAct onClick={() => setAll(true)}>Show all {group(lines.length)} lines</TextAct>}
    </div>
  );
}
