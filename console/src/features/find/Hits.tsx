/** Shelf, artifact, place: what holds the words, with the words marked. */

import { Link } from "react-router";
import { KindIcon } from "../../marks/spines";
import { count, tone, when } from "../../marks/words";
import { Part, RowAct, Switch } from "../../parts/Acts";
import { addressOf, type Chosen, idOf } from "./FindPage";
import { Marked } from "./Marked";
import type { FoundArtifact } from "./queries";

const ORDERS = [
  ["", "Best match"],
  ["newest", "Newest"],
  ["name", "By name"],
] as const;

export function Hits({
  items,
  chosen,
  order,
  onOrder,
  onChoose,
}: {
  items: FoundArtifact[];
  chosen: Chosen | null;
  order: string;
  onOrder: (order: string) => void;
  onChoose: (chosen: Chosen) => void;
}) {
  const several = new Set(items.map((item) => item.shelf)).size > 1;
  return (
    <section className="sheet hits" aria-label="Places">
      <div className="ph">
        <h2 className="h3">Places</h2>
        <span className="r">
          <Switch label="Order">
            {ORDERS.map(([value, told]) => (
              <Part key={value} pressed={order === value} onClick={() => onOrder(value)}>
                {told}
              </Part>
            ))}
          </Switch>
        </span>
      </div>
      {items.map((item) => (
        <article key={`${item.shelf}/${item.path}/${item.version ?? 0}`}>
          <p className="hit">
            <KindIcon kind={item.kind} tone={tone(item.recorded)} />
            <Link to={addressOf({ item, place: null })} onFocus={() => onChoose({ item, place: null })}>
              {item.name}
            </Link>
            <span className="mut">
              {item.kind}, {several && `${item.shelf_name}: `}
              <span className="mono">
                <Marked text={item.path} marks={item.marks} />
              </span>
            </span>
            <span className="end">{told(item)}</span>
          </p>
          {item.places.map((place, i) => {
            const one = { item, place };
            const on = chosen?.item === item && chosen.place === place;
            return (
              <RowAct key={i} id={idOf(one)} className={on ? "place on" : "place"} aria-current={on} onClick={() => onChoose(one)}>
                <span className="mut">{place.type}</span>
                <span>
                  {place.label === place.text || place.label.startsWith(`${place.type} `)
                    ? place.label.replace(`${place.type} `, "")
                    : place.label}
                  {place.field && <span className="mut">, {place.field}</span>}
                </span>
                <span>
                  <Marked text={place.text} marks={place.marks} />
                </span>
              </RowAct>
            );
          })}
          {item.place_count > item.places.length && (
            <p className="more">
              <Link to={addressOf({ item, place: null })}>
                {count(item.place_count - item.places.length, "more place")} in {item.name}
              </Link>
            </p>
          )}
        </article>
      ))}
    </section>
  );
}

function told(item: FoundArtifact): string {
  const ever = item.first != null && item.last != null && item.first !== item.last ? `, versions ${item.first} to ${item.last}` : "";
  const where = item.branches.length === 0 ? ", an earlier version" : item.branches[0] !== "main" ? `, on ${item.branches.join(", ")}` : "";
  return `version ${item.version ?? ""}, ${item.author}, ${when(item.recorded)}${ever}${where}`;
}
