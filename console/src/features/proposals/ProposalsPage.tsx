import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { count, when } from "../../marks/words";
import { TextAct, WordSwitch } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { OpenProposal } from "./OpenProposal";
import { proposals } from "./queries";

const STATES = ["open", "merged", "closed", "all"];

export function ProposalsPage() {
  const key = useShelfKey();
  const [state, setState] = useParam("state", "open");
  const found = useInfiniteQuery(proposals(key, state));
  const rows = found.data?.pages.flatMap((page) => page.items);
  const what = state === "all" ? "proposal" : `${state} proposal`;
  return (
    <Page page="proposals" title="Proposals" at="main" say={<i className="j">proposals</i>}>
      <div className="line1">
        <h1>{found.data ? `${count(found.data.pages[0]?.total ?? 0, what)}.` : "Proposals"}</h1>
        <WordSwitch label="State" words={STATES} value={state} onChoose={setState} />
        <span className="end">
          <OpenProposal />
        </span>
      </div>
      {found.isPending && <Loading what="Reading the proposals" />}
      {found.isError && <ProblemBox error={found.error} />}
      {rows?.length === 0 && (
        <Empty>
          A proposal asks that a branch be merged: others see what it brings, remark on it, and say whether they agree, before anything
          happens.
        </Empty>
      )}
      {rows && rows.length > 0 && (
        <section className="sheet scroll" aria-label="Proposals">
          <Table>
            <thead>
              <tr>
                <th className="num">No.</th>
                <th>Proposal</th>
                <th>From</th>
                <th>Into</th>
                <th>By</th>
                <th>Asked</th>
                <th>Remarks</th>
                <th>{state === "open" ? "Opened" : "Closed"}</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((p) => (
                <tr key={p.number}>
                  <td className="num">{p.number}</td>
                  <td className="wrap">
                    <Link to={`/s/${key}/proposals/${p.number}`}>
                      <b>{p.title}</b>
                    </Link>
                    {state === "all" && (
                      <span className="readonly" style={{ marginLeft: 8 }}>
                        {p.state}
                      </span>
                    )}
                  </td>
                  <td className="mono">{p.source}</td>
                  <td className="mono">{p.target}</td>
                  <td>{p.created_by}</td>
                  <td>{p.reviewers.join(", ") || <span className="mut">nobody</span>}</td>
                  <td>{p.remarks ? `${p.remarks_open} of ${p.remarks} open` : <span className="mut">none</span>}</td>
                  <td>{when(p.closed ?? p.created)}</td>
                </tr>
              ))}
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
