/** One task: where its commits have come to, what they changed, who made them. */

import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Effect } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { Loading, ProblemBox } from "../../shell/states";
import { task } from "./queries";

const MOST_NAMES = 4;

type Reached = Schemas["TaskReached"];

export function Task({ shelf, name, onBack }: { shelf: string; name: string; onBack: () => void }) {
  const found = useInfiniteQuery(task(shelf, name));
  const all = found.data?.pages[0];
  const commits = found.data?.pages.flatMap((page) => page.commits) ?? [];
  if (found.isPending) return <Loading what={`Reading ${name}`} />;
  if (found.isError || !all) return <ProblemBox error={found.error} />;
  return (
    <>
      <div className="line1">
        <h1>{sentence(all)}</h1>
        <span className="end">
          {all.address && (
            <a href={all.address} rel="noreferrer" target="_blank">
              {all.address}
            </a>
          )}{" "}
          <TextAct onClick={onBack}>All tasks</TextAct>
        </span>
      </div>
      {all.total > 0 && (
        <section className="sheet reached" aria-label="Reached">
          <div className="ph">
            <h2 className="h3">Reached</h2>
            <span className="cap">by {count(all.total, "commit")}</span>
          </div>
          <ol>
            {all.reached.map((place) => (
              <Place key={place.place} place={place} />
            ))}
          </ol>
        </section>
      )}
      {all.artifacts.length > 0 && (
        <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Artifacts">
          <div className="ph">
            <h2 className="h3">What it changed</h2>
            <span className="cap">{count(all.artifacts.length, "artifact")}, strongest effect first</span>
          </div>
          <Table>
            <thead className="sr">
              <tr>
                <th>Effect</th>
                <th>Artifact</th>
                <th>Newest change</th>
                <th>Versions</th>
              </tr>
            </thead>
            <tbody>
              {all.artifacts.map((one) => (
                <tr key={one.path}>
                  <td>
                    <Effect effect={one.effect} />
                  </td>
                  <td>
                    <KindIcon kind={one.kind || "opaque"} />{" "}
                    <Link to={`/s/${shelf}/artifact?${new URLSearchParams({ path: one.path })}`}>
                      <b>{one.path}</b>
                    </Link>
                  </td>
                  <td className="wrap">{one.version === null ? "removed" : one.headline}</td>
                  <td className="num sec">{count(one.versions, "version")}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {all.proposals.length > 0 && (
        <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Proposals">
          <div className="ph">
            <h2 className="h3">Proposals</h2>
          </div>
          <Table>
            <thead className="sr">
              <tr>
                <th>State</th>
                <th>Proposal</th>
                <th>Branches</th>
              </tr>
            </thead>
            <tbody>
              {all.proposals.map((one) => (
                <tr key={one.number}>
                  <td>{one.state}</td>
                  <td>
                    <Link to={`/s/${shelf}/proposals/${one.number}`}>
                      <b>{one.title}</b>
                    </Link>
                  </td>
                  <td className="sec">
                    {one.source} into {one.target}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {commits.length > 0 && (
        <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Commits">
          <div className="ph">
            <h2 className="h3">Commits</h2>
            <span className="cap">newest first</span>
          </div>
          <Table>
            <thead className="sr">
              <tr>
                <th>When</th>
                <th>Who</th>
                <th>Commit</th>
                <th>Id</th>
              </tr>
            </thead>
            <tbody>
              {commits.map((one) => (
                <tr key={one.commit}>
                  <td title={one.recorded}>{when(one.recorded)}</td>
                  <td>{one.author}</td>
                  <td className="wrap">
                    <b>{one.summary}</b>
                  </td>
                  <td>
                    <Link className="mono" to={`/s/${shelf}/commit/${one.commit}`}>
                      {one.commit.slice(0, 8)}
                    </Link>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show older ones</TextAct>{" "}
          <span className="cap">
            {commits.length} of {all.total} shown
          </span>
        </p>
      )}
    </>
  );
}

/** What people ask first: how much, and whether it runs. */
function sentence(all: Schemas["TaskAnswer"]): string {
  const whole = all.reached.filter((place) => place.is_environment && place.commits === all.total).map((place) => place.place);
  const done = `${count(all.total, "commit")} changed ${count(all.artifacts.length, "artifact")}`;
  if (all.total === 0) return `${all.task}: no commit yet, ${count(all.proposals.length, "proposal")}.`;
  return `${all.task}: ${done}; ${whole.length ? `all of it is in ${listed(whole)}` : "no environment has all of it"}.`;
}

function listed(names: string[]): string {
  const [last, ...rest] = names.slice(0, MOST_NAMES).reverse();
  const more = names.length - MOST_NAMES;
  if (more > 0) return `${names.slice(0, MOST_NAMES).join(", ")} and ${more} more`;
  return rest.length ? `${rest.reverse().join(", ")} and ${last}` : `${last}`;
}

function Place({ place }: { place: Reached }) {
  const words = place.commits === place.of ? "all" : place.commits ? `${place.commits} of ${place.of}` : "none";
  const part = place.of ? place.commits / place.of : 0;
  return (
    <li>
      <svg width="16" height="16" aria-hidden="true">
        <rect x="2" y={2 + 12 * (1 - part)} width="12" height={12 * part} fill="var(--accent)" />
        <rect x="2" y="2" width="12" height="12" fill="none" stroke="var(--accent)" strokeWidth="1.5" />
      </svg>
      <span>
        <b>{place.place}</b> {words}
      </span>
      <span className="cap">
        {place.tag ? `${place.tag}, ${when(place.since)}` : place.is_environment ? "nothing there yet" : "the main branch"}
      </span>
    </li>
  );
}
