/** What others did, newest first; what one follows is marked. */
import { Link } from "react-router";
import { when } from "../../marks/words";
import { Table } from "../../parts/Table";
import { placeOf } from "./places";
import type { NewsItem } from "./queries";

export function NewsTable({ shelf, items, label, after }: { shelf: string; items: NewsItem[]; label: string; after?: number }) {
  return (
    <Table aria-label={label}>
      <thead>
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>What</th>
          <th>You follow</th>
        </tr>
      </thead>
      <tbody>
        {items.map((item) => (
          <tr key={item.entry}>
            <td title={item.time}>
              {after !== undefined && item.entry > after && (
                <b>
                  <span aria-hidden="true">●</span> new{" "}
                </b>
              )}
              {when(item.time)}
            </td>
            <td>
              <b>{item.person}</b>
            </td>
            <td className="wrap">
              {item.words} <Link to={placeOf(shelf, item.act, item.commit)}>{item.subject || "this shelf"}</Link>
              {item.branch && item.act === "commit.made" && <span className="mut"> on {item.branch}</span>}
            </td>
            <td className="wrap mono">{item.follows?.join(", ")}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}
