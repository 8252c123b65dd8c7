/** The tasks of whoever is signed in: verdicts, answers, merges. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { when } from "../../marks/words";
import { Table } from "../../parts/Table";
import { type Waiting, waiting } from "./queries";

const WHAT: Record<Waiting["what"], string> = {
  verdict: "Give a verdict",
  answer: "Answer",
  fix: "Fix",
  merge: "Merge",
  settle: "Settle",
};

export function addressOf(one: Waiting): string {
  return one.merge ? `/s/${one.shelf}/settle/${one.merge}` : `/s/${one.shelf}/proposals/${one.proposal}`;
}

export function WaitingList() {
  const found = useQuery(waiting());
  const rows = found.data ?? [];
  return (
    <section className="sheet scroll" aria-label="Your tasks" style={{ marginTop: 10 }}>
      <div className="ph">
        <h2 className="h3">Your tasks</h2>
        <span className="cap">{rows.length || "none"}</span>
      </div>
      {found.data && rows.length === 0 && (
        <p className="pad sec">Nothing needs your action. Requested verdicts, open remarks and merges ready to continue appear here.</p>
      )}
      {rows.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th>What to do</th>
              <th>What it is about</th>
              <th>Shelf</th>
              <th>Why</th>
              <th>Since</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr key={`${one.shelf} ${one.proposal} ${one.merge} ${one.what}`}>
                <td>
                  <Link to={addressOf(one)}>{WHAT[one.what]}</Link>
                </td>
                <td className="wrap">
                  <b>{one.title}</b>
                  {one.proposal ? <span className="mut"> proposal {one.proposal}</span> : ""}
                </td>
                <td>{one.shelf_name}</td>
                <td className="wrap sec">{one.message}</td>
                <td title={one.since}>{when(one.since)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}
