/** News of all shelves, the newest few of each. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { count, when } from "../../marks/words";
import { NewsTable } from "./NewsTable";
import { newsEverywhere } from "./queries";

export function NewsOnShelves() {
  const found = useQuery(newsEverywhere());
  return (
    <>
      {found.data?.map((one) => (
        <section key={one.shelf} className="sheet scroll" aria-label={`News of ${one.shelf_name}`} style={{ marginTop: 10 }}>
          <div className="ph">
            <h2 className="h3">News of {one.shelf_name}</h2>
            <span className="cap">
              {count(one.count, "entry", "entries")} {one.since ? `since you looked, ${when(one.since)}` : "in the last two weeks"}
            </span>
            <span className="r">
              <Link to={`/s/${one.shelf}/news`}>All of them</Link>
            </span>
          </div>
          <NewsTable shelf={one.shelf} items={one.items} label={`What others did on ${one.shelf_name}`} />
        </section>
      ))}
    </>
  );
}

/** How much is new on a shelf, in the head of its pages. */
export function NewsChip({ shelf }: { shelf: string }) {
  const found = useQuery(newsEverywhere());
  const own = found.data?.find((one) => one.shelf === shelf);
  if (!own?.count) return null;
  return (
    <Link to={`/s/${shelf}/news`} className="waits">
      <b>{own.count > 99 ? "99+" : own.count}</b> new
    </Link>
  );
}
