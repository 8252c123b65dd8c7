/** One commit: what it says and changed, where it is, what it is part of, and its state restored. */
import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { commitPlaces, commit as commitQuery, comparison, shelf, undoing } from "../../api/queries";
import { count, when } from "../../marks/words";
import { Page, useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { StateTable } from "../compare/StateTable";
import { TaskLink } from "../tasks/TaskLink";
import { Places } from "./Places";
import { Restore } from "./Restore";
import { Undo } from "./Undo";
import { restored, undoneIn } from "./words";

export function CommitPage() {
  const key = useShelfKey();
  const uid = useParams().commit ?? "";
  const found = useQuery(commitQuery(key, uid));
  const places = useQuery(commitPlaces(key, uid));
  const info = useQuery(shelf(key));
  const main = info.data?.main_branch ?? "main";
  const branch = places.data?.branches[0] ?? main;
  const writes = info.data !== undefined && info.data.role !== "reader" && (places.data?.branches.length ?? 0) > 0;
  const look = useQuery({ ...undoing(key, uid, branch), enabled: writes });
  const c = found.data;
  const ref = `commit:${c?.commit.slice(0, 12) ?? uid}`;
  return (
    <Page
      page="history"
      title={c?.summary ?? "Commit"}
      at={ref}
      say={
        <>
          <i>at</i>
          <b className="mono">{ref.slice(0, 15)}</b>
        </>
      }
    >
      {found.isPending && <Loading what="Reading the commit" />}
      {found.isError && <ProblemBox error={found.error} />}
      {c && (
        <>
          <div className="line1">
            <h1>“{c.summary}”</h1>
            <span className="end">
              <Button variant="outlined" component={Link} to={`/s/${key}?ref=${ref}`}>
                See this state
              </Button>
              {look.data && <Undo shelf={key} look={look.data} summary={c.summary} />}
              {places.data && places.data.later > 0 && info.data && info.data.role !== "reader" && (
                <Restore
                  shelf={key}
                  branch={info.data.main_branch}
                  from={ref}
                  label="Restore this state"
                  title={`Restore the state of ${when(c.recorded)}`}
                  does={restored(main, places.data)}
                  usual={`Bring the shelf back from ${ref}`}
                />
              )}
            </span>
          </div>
          {c.description && <p className="described">{c.description}</p>}
          <p className="sec">
            <b>{c.author}</b>, {when(c.recorded)}
            {Object.entries(c.labels).map(([name, value]) => (
              <span key={name} className="refchip">
                <span className="mut">{name}</span> {value}
              </span>
            ))}
            {(places.data?.tasks ?? c.tasks).map((task) => (
              <TaskLink key={task} task={task} />
            ))}
          </p>
          <div className="cols-commit">
            <div className="stack">
              <Changed commit={c.commit} parent={c.parents[0] ?? undefined} total={places.data?.artifacts ?? 0} />
              {writes && (
                <section className="sheet ifs" aria-label="What can be done with it">
                  <div>
                    <h2 className="h3">If you undo it</h2>
                    <p>{look.data ? undoneIn(look.data) : look.isError ? "It cannot be looked at now." : "Looking …"}</p>
                  </div>
                  {places.data && places.data.later > 0 && (
                    <div>
                      <h2 className="h3">If you restore this state</h2>
                      <p>{restored(main, places.data)}</p>
                    </div>
                  )}
                </section>
              )}
            </div>
            {places.isPending && <Loading what="Looking where it is" />}
            {places.isError && <ProblemBox error={places.error} />}
            {places.data && <Places places={places.data} recorded={c.recorded} summary={c.summary} />}
          </div>
        </>
      )}
    </Page>
  );
}

function Changed({ commit, parent, total }: { commit: string; parent: string | undefined; total: number }) {
  const key = useShelfKey();
  const go = useNavigate();
  const sides = { from: `commit:${(parent ?? "").slice(0, 12)}`, to: `commit:${commit.slice(0, 12)}` };
  const found = useQuery({ ...comparison(key, sides.from, sides.to), enabled: parent !== undefined });
  if (parent === undefined) {
    return (
      <section className="sheet" aria-label="What it changed">
        <div className="ph">
          <h2 className="h3">What it changed</h2>
        </div>
        <p className="pad">
          The first commit of its line: {count(total, "artifact")}. <Link to={`/s/${key}?ref=${sides.to}`}>See them</Link>
        </p>
      </section>
    );
  }
  if (found.isPending) return <Loading what="Comparing with the state before" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  return (
    <div>
      <h2 className="formtitle" aria-live="polite">
        {found.data.sentence}
      </h2>
      <p className="cap" style={{ margin: "4px 0" }}>
        Against {parent.slice(0, 8)}, the state before it.
      </p>
      <StateTable
        artifacts={found.data.artifacts}
        onOpen={(path) => void go(`/s/${key}/compare?${new URLSearchParams({ ...sides, path })}`)}
      />
    </div>
  );
}
