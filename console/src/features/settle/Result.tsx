/** What an artifact becomes, line by line, and where each line comes from. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { blob, get, type Schemas } from "../../api/client";
import { Mark, Tick } from "../../marks/Mark";
import { count } from "../../marks/words";
import { useShelfKey } from "../../shell/Page";
import { Loading } from "../../shell/states";
import { DrawingView } from "../drawing/DrawingView";
import type { MergeArtifact } from "./model";
import { type Origin, originsOf } from "./origins";

const MOST_BYTES = 400_000;
const MOST_ROWS = 400;
const FROM: Record<Origin, string> = { both: "both sides", base: "base", this: "this side", other: "the other", new: "put together", gone: "" };

async function textOf(shelf: string, content: string | null | undefined): Promise<string | null> {
  if (!content) return null;
  const found = await blob(`shelves/${shelf}/contents/${content}`);
  if (found.size > MOST_BYTES) return null;
  const text = await found.text();
  return text.includes("\0") ? null : text;
}

export function Result({ artifact, merge }: { artifact: MergeArtifact; merge: string }) {
  const key = useShelfKey();
  const [drawn, setDrawn] = useState(false);
  const [part, setPart] = useState("");
  const [all, setAll] = useState(false);
  const { base, this: mine, other, result } = artifact;
  const found = useQuery({
    queryKey: ["shelf", key, "result", base, mine, other, result],
    queryFn: async () => {
      const [b, t, o, r] = await Promise.all([base, mine, other, result].map((c) => textOf(key, c)));
      return r === null || r === undefined ? null : originsOf(b ?? "", t ?? "", o ?? "", r);
    },
    enabled: Boolean(result),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const drawing = useQuery({
    queryKey: ["shelf", key, "result drawing", merge, artifact.path, mine, result],
    queryFn: () => get<Schemas["Drawing"]>(`shelves/${key}/merges/${merge}/drawing`, { path: artifact.path }),
    enabled: Boolean(result && mine),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const hasDrawing = (drawing.data?.nodes.length ?? 0) > 0;
  const open = artifact.conflicts.filter((c) => !c.decision).length;
  const rows = (found.data ?? []).filter((r) => all || r.near);
  return (
    <section className="sheet result" aria-label="Result">
      <div className="ph">
        <h2 className="h3">Result</h2>
        <span className="cap">{result ? "as it would be written" : "shown once every part of it is settled"}</span>
        {result && hasDrawing && (
          <span className="seg r" role="group" aria-label="Shown as">
            <button type="button" aria-pressed={!drawn} onClick={() => setDrawn(false)}>Text</button>
            <button type="button" aria-pressed={drawn} onClick={() => setDrawn(true)}>Drawing</button>
          </span>
        )}
        {result && found.data && !(drawn && hasDrawing) && <span className={hasDrawing ? "" : "r"}><button type="button" className="plainbtn" onClick={() => setAll(!all)}>{all ? "Only what differs" : "Every line"}</button></span>}
      </div>
      <ul className="holds">
        {result && <li><Tick met /> Read again: it says what both sides say and nothing that no side wrote{artifact.kind ? `, as a ${artifact.kind}` : ""}.</li>}
        {open > 0 && <li><Tick met={false} /> {count(open, "part")} of it still open.</li>}
      </ul>
      {result && found.isPending && <Loading what="Reading the result" />}
      {result && found.data === null && <p className="pad mut">It is no text, or a long one: it is shown when it is committed.</p>}
      {drawn && hasDrawing && drawing.data && <DrawingView drawing={drawing.data} chosen={part} onChoose={setPart} compared height={360} />}
      {rows.length > 0 && !(drawn && hasDrawing) && (
        <div className="scroll" style={{ maxHeight: 300 }} tabIndex={0} role="region" aria-label="Lines of the result">
          <table>
            <thead><tr><th className="num">Line</th><th>Text</th><th>From</th></tr></thead>
            <tbody>
              {rows.slice(0, MOST_ROWS).map((r, n) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: lines have no other identity
                <tr key={n} className={r.origin === "gone" ? "gone" : ""}>
                  <td className="num">{r.line ?? ""}</td>
                  <td className="mono line">{r.origin === "gone" ? <><Mark action="removed" /> <del>{r.text || " "}</del></> : r.origin === "both" || r.origin === "base" ? r.text || " " : <><Mark action="added" /> <ins>{r.text || " "}</ins></>}</td>
                  <td className="sec">{FROM[r.origin]}{r.origin === "gone" && r.by ? `removed by ${r.by === "this" ? "this side" : r.by === "other" ? "the other" : "both"}` : ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {rows.length > MOST_ROWS && <p className="cap pad">{count(rows.length - MOST_ROWS, "more line")}</p>}
        </div>
      )}
    </section>
  );
}
