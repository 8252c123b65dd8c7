/** What was sent and never used, with the time from which each is freed. */

import { useQuery } from "@tanstack/react-query";
import { answer, api } from "../../api/client";
import { size, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { Loading, ProblemBox } from "../../shell/states";

const MOST = 200;

export function StorageUnused() {
  const sheet = useSheet();
  return (
    <>
      <TextAct onClick={() => sheet.show()}>List them</TextAct>
      <Sheet of={sheet} label="Sent and never used" wide>
        <h2>Sent and never used</h2>
        {sheet.shown && <UnusedTable />}
      </Sheet>
    </>
  );
}

function UnusedTable() {
  const found = useQuery({
    queryKey: ["storage", "unused"],
    queryFn: () => answer(api.GET("/storage/unused", { params: { query: { limit: MOST } } })),
  });
  if (found.isPending) return <Loading what="Reading what is not used" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  return (
    <>
      <Table>
        <thead>
          <tr>
            <th>Content</th>
            <th>Size</th>
            <th>Shelf</th>
            <th>Freed from</th>
          </tr>
        </thead>
        <tbody>
          {found.data.items.map((one) => (
            <tr key={`${one.shelf} ${one.content}`}>
              <td className="mono">{one.content.slice(0, 12)}</td>
              <td>{size(one.size)}</td>
              <td>{one.shelf}</td>
              <td>{when(one.frees)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      {found.data.next !== null && <p className="sec">The first {MOST}. All of them: everyshelf storage unused</p>}
    </>
  );
}
