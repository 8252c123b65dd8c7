import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Table } from "../../parts/Table";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { log, members } from "./queries";

const ABOUT = [
  "",
  "commit",
  "branch",
  "tag",
  "merge",
  "proposal",
  "check",
  "experiment",
  "promotion",
  "environment",
  "member",
  "invitation",
  "link",
  "git",
  "webhook",
  "shelf",
];

export function LogPage() {
  const key = useShelfKey();
  const [person, setPerson] = useParam("person");
  const [act, setAct] = useParam("about");
  const people = useQuery(members(key));
  const found = useInfiniteQuery(log(key, person, act));
  const rows = found.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Page page="log" title="Log" at="main" say={<i className="j">log</i>}>
      <div className="line1">
        <h1>Audit log. Entries are never deleted.</h1>
        <span className="end">
          <Link to={`/s/${key}/webhooks`}>Webhooks</Link>
          <Choice id="log-person" label="Person" value={person} onChange={(e) => setPerson(e.target.value)}>
            <option value="">all people</option>
            {people.data?.map((m) => (
              <option key={m.person} value={m.person}>
                {m.full_name}
              </option>
            ))}
          </Choice>
          <Choice id="log-about" label="About" value={act} onChange={(e) => setAct(e.target.value)}>
            {ABOUT.map((a) => (
              <option key={a} value={a}>
                {a || "everything"}
              </option>
            ))}
          </Choice>
        </span>
      </div>
      {found.isPending && <Loading what="Reading the log" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && rows.length === 0 && <Empty>No matching entries.</Empty>}
      {rows.length > 0 && (
        <section className="sheet" aria-label="Log">
          <Table>
            <thead>
              <tr>
                <th>When</th>
                <th>Who</th>
                <th>Did</th>
                <th>With</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((e) => (
                <tr key={e.entry}>
                  <td title={e.time}>{when(e.time)}</td>
                  <td>
                    <b>{e.person}</b>
                  </td>
                  <td className="wrap">
                    {e.words} <b>{e.subject}</b>
                    {typeof e.detail.why === "string" && e.detail.why ? <span className="sec">: {e.detail.why}</span> : null}
                    {typeof e.detail.role === "string" && e.act.startsWith("member") ? (
                      <span className="sec">, {e.detail.role}</span>
                    ) : null}
                  </td>
                  <td className="sec">{e.via || "the console"}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show older entries</TextAct>{" "}
          <span className="cap">{count(rows.length, "entry", "entries")} shown</span>
        </p>
      )}
    </Page>
  );
}
