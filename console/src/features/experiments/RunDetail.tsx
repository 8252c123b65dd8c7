/** One run: what it read, how it was run, and what stands in its commit. */
import { Link } from "react-router";
import { KindIcon } from "../../marks/spines";
import { when } from "../../marks/words";
import { useShelfKey } from "../../shell/Page";
import { took } from "./model";
import type { Experiment, Run } from "./queries";

export function RunDetail({ run, found }: { run: Run; found: Experiment }) {
  const key = useShelfKey();
  const base = found.runs.find((r) => r.number === found.base);
  return (
    <section className="sheet" aria-label={`Run ${run.number}`}>
      <div className="ph">
        <h2 className="h3">Run {run.number}</h2>
        <span className="r cap">{run.state === "done" ? took(run.took_seconds) : "failed"}</span>
      </div>
      <dl className="rundetail">
        <dt>Read</dt>
        <dd>
          {run.reads.slice(0, 8).map((r) => (
            <p key={r.path}>
              <KindIcon kind={r.kind} />{" "}
              <Link to={`/s/${key}/artifact?${new URLSearchParams({ path: r.path, ref: `commit:${run.base.slice(0, 12)}` })}`}>
                {r.name}
              </Link>{" "}
              v{r.version}
            </p>
          ))}
          {run.reads.length > 8 && <p className="cap">and {run.reads.length - 8} more</p>}
          {run.reads.length === 0 && <span className="mut">nothing is known</span>}
        </dd>
        <dt>Wrote</dt>
        <dd>
          {run.commit === run.base ? (
            <span className="mut">nothing</span>
          ) : (
            <Link
              className="mono"
              to={`/s/${key}/compare?${new URLSearchParams({ from: `commit:${run.base.slice(0, 12)}`, to: `commit:${run.commit.slice(0, 12)}` })}`}
            >
              {run.commit.slice(0, 8)}
            </Link>
          )}
        </dd>
        {run.command && (
          <>
            <dt>Command</dt>
            <dd className="mono">{run.command}</dd>
          </>
        )}
        <dt>Ran</dt>
        <dd>
          {when(run.began)} by {run.person}
        </dd>
        {run.note && (
          <>
            <dt>Note</dt>
            <dd className="wrap">{run.note}</dd>
          </>
        )}
      </dl>
      {base && base.number !== run.number && run.commit !== base.commit && (
        <p className="pad">
          <Link
            to={`/s/${key}/compare?${new URLSearchParams({ from: `commit:${base.commit.slice(0, 12)}`, to: `commit:${run.commit.slice(0, 12)}` })}`}
          >
            Compare with run {base.number} by meaning
          </Link>
        </p>
      )}
    </section>
  );
}
