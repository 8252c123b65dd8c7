import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { commits } from "../../api/queries";
import { Effect } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { Page, useShelfKey } from "../../shell/Page";
import { RefChooser } from "../../shell/RefChooser";
import { SaveReport } from "../../shell/SaveReport";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { TaskLink } from "../tasks/TaskLink";
import { FIELDS, type Sought, SoughtForm } from "./Sought";

export function HistoryPage() {
  const key = useShelfKey();
  const [at, setAt] = useParam("ref", "main");
  const [params, setParams] = useSearchParams();
  const sought: Sought = Object.fromEntries(FIELDS.flatMap((name) => (params.get(name) ? [[name, params.get(name) ?? ""]] : [])));
  const found = useInfiniteQuery(commits(key, at, sought));
  const seek = (next: Sought) =>
    setParams((old) => {
      const now = new URLSearchParams(old);
      for (const name of FIELDS) {
        if (next[name]) now.set(name, next[name]);
        else now.delete(name);
      }
      return now;
    });
  const say = (
    <>
      <i className="j">history of</i>
      <RefChooser shelf={key} value={at} label="History of" onChoose={setAt} />
    </>
  );
  const items = found.data?.pages.flatMap((page) => page.items) ?? [];
  const total = found.data?.pages[0]?.total ?? 0;
  const isAll = Object.keys(sought).length === 0;
  return (
    <Page page="history" title={`History of ${at}`} at={at} say={say}>
      <h1>
        {found.data
          ? `${count(total, "commit")} in the line of ${at}${isAll ? "" : total === 1 ? " matches" : " match"}, newest first.`
          : "History"}
      </h1>
      <div className="line1">
        <SoughtForm sought={sought} onSeek={seek} />
        <span className="end">
          <SaveReport report={`shelves/${key}/history/report`} query={{ ref: at, ...sought }} />
        </span>
      </div>
      {found.isPending && <Loading what="Reading the history" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && total === 0 && (
        <Empty>
          {isAll
            ? "No commit yet. The first one starts the history."
            : "No commit of this line matches all of that. Take something away, or show all."}
        </Empty>
      )}
      {items.length > 0 && (
        <section className="sheet scroll" style={{ marginTop: 8 }} aria-label="Commits">
          <Table>
            <thead>
              <tr>
                <th>When</th>
                <th>Who</th>
                <th>Commit</th>
                <th>Effect</th>
                <th>Artifacts</th>
                <th>Id</th>
              </tr>
            </thead>
            <tbody>
              {items.map((c) => {
                return (
                  <tr key={c.commit}>
                    <td title={c.recorded}>{when(c.recorded)}</td>
                    <td>{c.author}</td>
                    <td style={{ whiteSpace: "normal" }}>
                      <b>{c.summary}</b>
                      {c.merge && <i className="w"> merge</i>}
                      {c.tags.map((t) => (
                        <span key={t} className="mono" style={{ color: "var(--accent)", marginLeft: 8 }}>
                          tag:{t}
                        </span>
                      ))}
                      {c.tasks.map((t) => (
                        <TaskLink key={t} task={t} />
                      ))}
                      {Object.entries(c.labels).map(([k, v]) => (
                        <span key={k} className="mut" style={{ marginLeft: 8 }}>
                          {k} {v}
                        </span>
                      ))}
                    </td>
                    <td>
                      <Effect effect={c.effect || undefined} />
                    </td>
                    <td>
                      {c.artifacts.slice(0, 6).map((a) => (
                        <span key={a.path} title={`${a.path}: ${a.headline}`}>
                          <KindIcon kind={a.kind || "opaque"} />
                        </span>
                      ))}{" "}
                      <span className="sec">{count(c.artifact_count, "artifact")}</span>
                    </td>
                    <td>
                      <Link className="mono" to={`/s/${key}/commit/${c.commit}`}>
                        {c.commit.slice(0, 8)}
                      </Link>
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
        </section>
      )}
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show older ones</TextAct>
        </p>
      )}
    </Page>
  );
}
