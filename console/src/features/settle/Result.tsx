/** What an artifact becomes, line by line, and where each line comes from. */

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, blob } from "../../api/client";
import { Mark, Tick } from "../../marks/Mark";
import { count } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { useShelfKey } from "../../shell/Page";
import { Loading } from "../../shell/states";
import { DrawingView } from "../drawing/DrawingView";
import type { MergeArtifact, MergeDetail } from "./model";
import { type Origin, type OriginLine, originsOf } from "./origins";

const MOST_BYTES = 400_000;
const MOST_ROWS = 400;

function fromOf(row: OriginLine, merge: { target: string; source: string }): string {
  const names: Record<Origin, string> = {
    both: "both sides",
    base: "base",
    target: merge.target,
    source: merge.source,
    new: "both, merged",
    gone: "",
  };
  return row.origin === "gone" && row.by ? `removed on ${row.by === "both" ? "both sides" : names[row.by]}` : names[row.origin];
}

async function textOf(shelf: string, content: string | null | undefined): Promise<string | null> {
  if (!content) return null;
  const found = await blob(`shelves/${shelf}/contents/${content}`);
  if (found.size > MOST_BYTES) return null;
  const text = await found.text();
  return text.includes("\0") ? null : text;
}

export function Result({ artifact, merge }: { artifact: MergeArtifact; merge: MergeDetail }) {
  const key = useShelfKey();
  const [drawn, setDrawn] = useState(false);
  const [part, setPart] = useState("");
  const [all, setAll] = useState(false);
  const { base, target, source, result } = artifact;
  const found = useQuery({
    queryKey: ["shelf", key, "result", base, target, source, result],
    queryFn: async () => {
      const [b, t, o, r] = await Promise.all([base, target, source, result].map((c) => textOf(key, c)));
      return r === null || r === undefined ? null : originsOf(b ?? "", t ?? "", o ?? "", r);
    },
    enabled: Boolean(result),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const drawing = useQuery({
    queryKey: ["shelf", key, "result drawing", merge.id, artifact.path, target, result],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/merges/{uid}/drawing", {
          params: { path: { shelf: key, uid: merge.id }, query: { path: artifact.path } },
        }),
      ),
    enabled: Boolean(result && target),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const hasDrawing = (drawing.data?.nodes.length ?? 0) > 0;
  const open = artifact.conflicts.filter((c) => !c.decision).length;
  const rows = (found.data ?? []).filter((r) => all || r.near);
  return (
    <section className="sheet result" aria-label="Result">
      <div className="ph">
        <h2 className="h3">Result</h2>
        <span className="cap">{result ? "as it will be committed" : "shown when every part is settled"}</span>
        {result && hasDrawing && (
          <Switch className="r" label="Shown as">
            <Part pressed={!drawn} onClick={() => setDrawn(false)}>
              Text
            </Part>
            <Part pressed={drawn} onClick={() => setDrawn(true)}>
              Graph
            </Part>
          </Switch>
        )}
        {result && found.data && !(drawn && hasDrawing) && (
          <span className={hasDrawing ? "" : "r"}>
            <TextAct onClick={() => setAll(!all)}>{all ? "Only what differs" : "Every line"}</TextAct>
          </span>
        )}
      </div>
      <ul className="holds">
        {result && (
          <li>
            <Tick met /> Read back: it contains the changes of both sides and nothing else
            {artifact.kind ? `, as a ${artifact.kind}` : ""}.
          </li>
        )}
        {open > 0 && (
          <li>
            <Tick met={false} /> {count(open, "part")} still open.
          </li>
        )}
      </ul>
      {result && found.isPending && <Loading what="Reading the result" />}
      {result && found.data === null && <p className="pad mut">This is not a text, or it is too long to show here.</p>}
      {drawn && hasDrawing && drawing.data && <DrawingView drawing={drawing.data} chosen={part} onChoose={setPart} compared height={360} />}
      {rows.length > 0 && !(drawn && hasDrawing) && (
        <div className="scroll" style={{ maxHeight: 300 }} tabIndex={0} role="region" aria-label="Lines of the result">
          <Table>
            <thead>
              <tr>
                <th className="num">Line</th>
                <th>Text</th>
                <th>From</th>
              </tr>
            </thead>
            <tbody>
              {rows.slice(0, MOST_ROWS).map((r, n) => (
                <tr key={n} className={r.origin === "gone" ? "gone" : ""}>
                  <td className="num">{r.line ?? ""}</td>
                  <td className="mono line">
                    {r.origin === "gone" ? (
                      <>
                        <Mark action="removed" /> <del>{r.text || " "}</del>
                      </>
                    ) : r.origin === "both" || r.origin === "base" ? (
                      r.text || " "
                    ) : (
                      <>
                        <Mark action="added" /> <ins>{r.text || " "}</ins>
                      </>
                    )}
                  </td>
                  <td className="sec">{fromOf(r, merge)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
          {rows.length > MOST_ROWS && <p className="cap pad">{count(rows.length - MOST_ROWS, "more line")}</p>}
        </div>
      )}
    </section>
  );
}
