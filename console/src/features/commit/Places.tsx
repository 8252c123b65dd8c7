/** Beside a commit: how far it has come, what lies before and after it, and everything it is part of. */
import { Link } from "react-router";
import type { components } from "../../api/schema";
import { Tick } from "../../marks/Mark";
import { count, when } from "../../marks/words";
import { useShelfKey } from "../../shell/Page";

type Schemas = components["schemas"];
type Given = Schemas["CommitPlaces"];

export function Places({ places, recorded, summary }: { places: Given; recorded: string; summary: string }) {
  return (
    <div className="stack">
      <Reached places={places} />
      <section className="sheet" aria-label="Before and after it">
        <div className="ph">
          <h2 className="h3">Before and after it</h2>
        </div>
        <ul className="near">
          {places.parents.map((near) => (
            <Near key={near.commit} near={near} word="Parent" />
          ))}
          <li className="on">
            <span className="mut">This one</span>
            <span className="mono">{places.commit.slice(0, 8)}</span>
            <span>{summary}</span>
          </li>
          {places.next.map((near) => (
            <Near key={near.commit} near={near} word="Next" />
          ))}
        </ul>
      </section>
      <Parts places={places} recorded={recorded} />
    </div>
  );
}

function Reached({ places }: { places: Given }) {
  const key = useShelfKey();
  const reached = places.environments.filter((one) => one.reached).length;
  return (
    <section className="sheet" aria-label="Reached">
      <div className="ph">
        <h2 className="h3">Reached</h2>
        <span className="cap">
          {reached} of {count(places.environments.length, "environment")}
        </span>
        <span className="r">
          <Link to={`/s/${key}/environments`}>Environments</Link>
        </span>
      </div>
      {places.environments.length === 0 ? (
        <p className="pad mut">This shelf has no environment.</p>
      ) : (
        <ul className="near">
          {places.environments.map((one) => (
            <li key={one.environment}>
              <Tick met={one.reached} />
              <b>{one.environment}</b>
              <span className="mut">{one.reached ? `${one.tag ? `tag:${one.tag}, ` : ""}since ${when(one.since)}` : "not yet"}</span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function Near({ near, word }: { near: Schemas["NearCommit"]; word: string }) {
  const key = useShelfKey();
  return (
    <li title={`${near.author}, ${when(near.recorded)}`}>
      <span className="mut">{word}</span>
      <Link className="mono" to={`/s/${key}/commit/${near.commit}`}>
        {near.commit.slice(0, 8)}
      </Link>
      <span>
        {near.summary}
        {near.merged && <i className="w"> merged</i>}
      </span>
    </li>
  );
}

function Parts({ places, recorded }: { places: Given; recorded: string }) {
  const key = useShelfKey();
  return (
    <section className="sheet" aria-label="Part of">
      <div className="ph">
        <h2 className="h3">Part of</h2>
      </div>
      <dl className="facts pad">
        {places.undone_by.map((one) => (
          <Row key={`u${one.commit}`} word="Undone by">
            <Link className="mono" to={`/s/${key}/commit/${one.commit}`}>
              {one.commit.slice(0, 8)}
            </Link>{" "}
            {one.summary}, {when(one.recorded)}
          </Row>
        ))}
        <dt>Branches</dt>
        <dd>{places.branches.join(", ") || "none now"}</dd>
        {places.tags.length > 0 && (
          <>
            <dt>Tags</dt>
            <dd>
              {places.tags.map((tag) => (
                <span key={tag.name} className="mono">
                  tag:{tag.name}
                  {tag.later > 0 && <span className="mut">, {count(tag.later, "commit")} later</span>}{" "}
                </span>
              ))}
            </dd>
          </>
        )}
        {places.proposals.map((one) => (
          <Row key={`p${one.number}`} word="Proposal">
            <Link to={`/s/${key}/proposals/${one.number}`}>
              {one.number}, {one.title}
            </Link>
            , {one.merged ? "merged by it" : one.state}
          </Row>
        ))}
        {places.runs.map((one) => (
          <Row key={`${one.experiment}${one.number}`} word="Run">
            <Link to={`/s/${key}/experiments/${one.experiment}`}>
              run {one.number} of “{one.question}”
            </Link>
            {one.made ? "" : ", which read it"}
          </Row>
        ))}
        {places.checks.map((one) => (
          <Row key={one.name} word="Check">
            <Tick met={one.passed} /> {one.name}
            {one.comment && `: ${one.comment}`}
          </Row>
        ))}
        <dt>Commit</dt>
        <dd className="mono">{places.commit}</dd>
        {places.git.map((one) => (
          <Row key={`${one.git}${one.link}`} word="Git">
            <span className="mono">{one.git}</span>
            {one.link && (
              <span className="mut">
                {" "}
                {one.fetched ? "fetched from" : "sent to"} {one.link}
                {one.at && `, ${when(one.at)}`}
              </span>
            )}
          </Row>
        ))}
      </dl>
      <p className="pad cap">
        Recorded {new Date(recorded).toLocaleString("en-GB")}. A commit never changes; undoing and restoring make new ones.
      </p>
    </section>
  );
}

function Row({ word, children }: { word: string; children: React.ReactNode }) {
  return (
    <>
      <dt>{word}</dt>
      <dd>{children}</dd>
    </>
  );
}
