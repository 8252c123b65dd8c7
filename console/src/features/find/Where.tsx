/** The chosen place: what it says, who set it, and where to go from there. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { forms } from "../../api/queries";
import { when } from "../../marks/words";
import { addressOf, type Chosen } from "./FindPage";
import { Marked } from "./Marked";

export function Where({ chosen }: { chosen: Chosen }) {
  const { item, place } = chosen;
  const line = place ? /^\/line:(\d+)$/.exec(place.part)?.[1] : undefined;
  const of: Record<string, string> | null =
    !place || item.branches.length === 0 || place.type === "column" || place.type === "cell"
      ? null
      : line
        ? { line }
        : { part: place.part };
  const set = useQuery({
    ...forms(item.shelf, item.path, item.branches[0] ?? "main", undefined, of ?? {}),
    enabled: of !== null,
  });
  const newest = set.data?.forms[0];
  return (
    <section className="sheet" aria-label="Where it is">
      <div className="ph">
        <h2 className="h3">Where it is</h2>
      </div>
      <div className="pad">
        <h2 className="formtitle">{place ? place.label || place.type : item.name}</h2>
        <p className="mono mut" style={{ overflowWrap: "anywhere" }}>
          {place?.part ?? item.path}
        </p>
        {place && (
          <p className="said">
            <Marked text={place.text} marks={place.marks} />
          </p>
        )}
        <dl className="facts">
          {of && newest && (
            <>
              <dt>Set by</dt>
              <dd>
                {newest.commit.author}, {when(newest.commit.recorded)}
              </dd>
              <dt>Why</dt>
              <dd>“{newest.commit.summary}”</dd>
              <dt>Commit</dt>
              <dd>
                <Link className="mono" to={`/s/${item.shelf}/commit/${newest.commit.commit}`}>
                  {newest.commit.commit.slice(0, 8)}
                </Link>
                , version {newest.commit.version}
              </dd>
            </>
          )}
          {!(of && newest) && (
            <>
              <dt>Version</dt>
              <dd>
                {item.version} by {item.author}, {when(item.recorded)}
              </dd>
              <dt>Why</dt>
              <dd>“{item.summary}”</dd>
            </>
          )}
          <dt>On</dt>
          <dd>{item.branches.length ? item.branches.join(", ") : "no branch now"}</dd>
        </dl>
        <p className="acts">
          <Link to={addressOf(chosen)}>Open the artifact</Link> <Link to={addressOf(chosen, "origins")}>Origins</Link>
        </p>
      </div>
    </section>
  );
}
