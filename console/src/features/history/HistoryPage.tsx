import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { commits } from "../../api/queries";
import { Effect } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { count, when } from "../../marks/words";
import { TaskLink } from "../tasks/TaskLink";
import { Page, useShelfKey } from "../../shell/Page";
import { RefChooser } from "../../shell/RefChooser";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";

export function HistoryPage() {
  const key = useShelfKey();
  const [at, setAt] = useParam("ref", "main");
  const [most, setMost] = useState(100);
  const found = useQuery(commits(key, at, most));
  const say = (<><i className="j">history of</i><RefChooser shelf={key} value={at} label="History of" onChoose={setAt} /></>);
  const items = found.data?.items ?? [];
  return (
    <Page page="history" title={`History of ${at}`} at={at} say={say}>
      <h1>{found.data ? `${count(found.data.total, "commit")} in the line of ${at}, newest first.` : "History"}</h1>
      {found.isPending && <Loading what="Reading the history" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data?.total === 0 && <Empty>No commit yet. The first one starts the history.</Empty>}
      {items.length > 0 && (
        <section className="sheet scroll" style={{ marginTop: 8 }} aria-label="Commits">
          <table>
            <thead><tr><th>When</th><th>Who</th><th>Commit</th><th>Effect</th><th>Artifacts</th><th>Id</th></tr></thead>
            <tbody>
              {items.map((c) => {
                const worst = ["breaks", "alters", "cosmetic"].find((e) => c.artifacts.some((a) => a.effect === e));
                const parent = c.parents[0];
                return (
                  <tr key={c.commit}>
                    <td title={c.recorded}>{when(c.recorded)}</td>
                    <td>{c.author}</td>
                    <td style={{ whiteSpace: "normal" }}>
                      <b>{c.summary}</b>
                      {c.merge && <i className="w"> merge</i>}
                      {c.tags.map((t) => <span key={t} className="mono" style={{ color: "var(--accent)", marginLeft: 8 }}>tag:{t}</span>)}
                      {c.tasks.map((t) => <TaskLink key={t} task={t} />)}
                      {Object.entries(c.labels).map(([k, v]) => <span key={k} className="mut" style={{ marginLeft: 8 }}>{k} {v}</span>)}
                    </td>
                    <td><Effect effect={worst} /></td>
                    <td>
                      {c.artifacts.slice(0, 6).map((a) => <span key={a.path} title={`${a.path}: ${a.headline}`}><KindIcon kind={a.kind || "opaque"} /></span>)}{" "}
                      <span className="sec">{count(c.artifact_count, "artifact")}</span>
                    </td>
                    <td>
                      {parent ? <Link className="mono" to={`/s/${key}/compare?${new URLSearchParams({ from: `commit:${parent.slice(0, 12)}`, to: `commit:${c.commit.slice(0, 12)}` })}`}>{c.commit.slice(0, 8)}</Link> : <span className="mono">{c.commit.slice(0, 8)}</span>}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </section>
      )}
      {found.data?.next && <p className="foot"><button type="button" className="plainbtn" onClick={() => setMost(Math.min(1000, most + 200))}>Show older ones</button></p>}
    </Page>
  );
}
