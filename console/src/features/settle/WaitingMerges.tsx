import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { count, when } from "../../marks/words";
import { Table } from "../../parts/Table";
import { useShelfKey } from "../../shell/Page";
import { merges } from "./model";

/** Merges that wait to be settled; nothing while there are none. */
export function WaitingMerges() {
  const key = useShelfKey();
  const found = useQuery(merges(key));
  if (!found.data?.length) return null;
  return (
    <section className="sheet scroll" style={{ marginBottom: 10 }} aria-label="Merges that wait">
      <div className="ph">
        <h2 className="h3">{count(found.data.length, "merge")} to settle</h2>
      </div>
      <Table>
        <thead>
          <tr>
            <th>From</th>
            <th>Into</th>
            <th>Started</th>
            <th>By</th>
            <th>Settled so far</th>
            <th>
              <span className="sr">Action</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {found.data.map((m) => (
            <tr key={m.id}>
              <td className="mono">{m.source}</td>
              <td className="mono">{m.target}</td>
              <td>{when(m.created)}</td>
              <td>{m.created_by}</td>
              <td>{count(m.decided, "conflict")}</td>
              <td>
                <Link to={`/s/${key}/settle/${m.id}`}>Settle</Link>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}
