/** One version of an artifact: what it changed, what it was made of and what was made of it, and what has it. */

import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { shelf, versionPlaces } from "../../api/queries";
import { address } from "../../api/query";
import { Effect, Tick } from "../../marks/Mark";
import { count, size, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Page, useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { Restore } from "../commit/Restore";
import { ArtifactFindings } from "../compare/ArtifactFindings";
import { TaskLink } from "../tasks/TaskLink";

type Given = Schemas["VersionPlaces"];

export function VersionPage() {
  const key = useShelfKey();
  const go = useNavigate();
  const [path] = useParam("path");
  const [at] = useParam("ref", "main");
  const [version] = useParam("version");
  const found = useQuery(versionPlaces(key, path, at, version));
  const info = useQuery(shelf(key));
  const v = found.data;
  const name = path.split("/").pop() ?? "";
  const branch = info.data?.main_branch ?? "main";
  const writes = info.data !== undefined && info.data.role !== "reader";
  const isNewest = v?.branches.includes(branch) ?? true;
  return (
    <Page
      page="artifacts"
      title={`${name}, version ${version}`}
      at={at}
      current={path}
      say={
        <>
          <b className="j">{name}</b>
          <i>version {version}</i>
        </>
      }
    >
      {found.isPending && <Loading what={`Reading version ${version}`} />}
      {found.isError && <ProblemBox error={found.error} />}
      {v && (
        <>
          <div className="line1">
            <h1>
              {name}, version {v.version} of {v.versions}: “{v.summary}”
            </h1>
            <span className="end">
              <Button
                variant="outlined"
                component={Link}
                to={`/s/${key}/artifact?${new URLSearchParams({ path, ref: at, version: String(v.version) })}`}
              >
                Open it
              </Button>
              <Button variant="outlined" href={address(`shelves/${key}/artifact/file`, { path, ref: at, version: String(v.version) })}>
                Download
              </Button>
              {writes && !isNewest && (
                <Restore
                  shelf={key}
                  branch={branch}
                  from={`version:${v.version}`}
                  path={path}
                  label="Restore this version"
                  title={`Restore version ${v.version} of ${name}`}
                  does={`${branch} gets ${name} as it was in version ${v.version}, in a new commit. The later versions stay in the history.`}
                  usual={`Bring ${path} back from version:${v.version}`}
                />
              )}
            </span>
          </div>
          {v.description && <p className="described">{v.description}</p>}
          <p className="sec">
            <b>{v.author}</b>, {when(v.recorded)} <Effect effect={v.effect || undefined} />
            {Object.entries(v.labels).map(([label, value]) => (
              <span key={label} className="refchip">
                <span className="mut">{label}</span> {value}
              </span>
            ))}
            {v.made_by.tasks.map((task) => (
              <TaskLink key={task} task={task} />
            ))}
          </p>
          <div className="cols-commit">
            <Changed version={v} path={path} onAll={() => void go(`/s/${key}/commit/${v.made_by.commit}`)} />
            <div className="stack">
              <Has version={v} />
              <Near version={v} path={path} at={at} />
              <Facts version={v} />
            </div>
          </div>
        </>
      )}
    </Page>
  );
}

function Changed({ version: v, path, onAll }: { version: Given; path: string; onAll: () => void }) {
  const key = useShelfKey();
  const before = v.before[0];
  if (!before) {
    return (
      <section className="sheet" aria-label="What it changed">
        <div className="ph">
          <h2 className="h3">What it changed</h2>
        </div>
        <p className="pad">
          The first version: {v.kind}, {size(v.size)}.
        </p>
      </section>
    );
  }
  return (
    <div className="changedpart">
      <p className="cap">
        Against version {before.version}, which it was made of.
        {v.made_by.artifacts > 1 && (
          <>
            {" "}
            <TextAct onClick={onAll}>The other {count(v.made_by.artifacts - 1, "artifact")} of this commit</TextAct>
          </>
        )}
      </p>
      <ArtifactFindings shelf={key} path={path} from={`version:${before.version}`} to={`version:${v.version}`} />
    </div>
  );
}

/** Which environments, branches and tags have exactly this version. */
function Has({ version: v }: { version: Given }) {
  const key = useShelfKey();
  const here = v.environments.filter((one) => one.this).length;
  return (
    <section className="sheet" aria-label="Reached">
      <div className="ph">
        <h2 className="h3">Where it is</h2>
        <span className="cap">
          {here} of {count(v.environments.length, "environment")}
        </span>
        <span className="r">
          <Link to={`/s/${key}/environments`}>Environments</Link>
        </span>
      </div>
      <ul className="near">
        {v.environments.map((one) => (
          <li key={one.environment}>
            <Tick met={one.this} />
            <b>{one.environment}</b>
            <span className="mut">
              {one.this ? `since ${when(one.since)}` : one.version ? `has version ${one.version}` : "does not have it"}
              {one.tag && `, tag:${one.tag}`}
            </span>
          </li>
        ))}
      </ul>
      <dl className="facts pad">
        <dt>Branches</dt>
        <dd>{v.branches.join(", ") || "at the head of none"}</dd>
        <dt>Tags</dt>
        <dd className="mono">{v.tags.map((tag) => `tag:${tag}`).join(", ") || "none"}</dd>
      </dl>
    </section>
  );
}

function Near({ version: v, path, at }: { version: Given; path: string; at: string }) {
  return (
    <section className="sheet" aria-label="Before and after it">
      <div className="ph">
        <h2 className="h3">Before and after it</h2>
      </div>
      <ul className="near">
        {v.before.map((near) => (
          <NearVersion key={near.version} near={near} word="Made of" path={path} at={at} />
        ))}
        <li className="on">
          <span className="mut">This one</span>
          <span>v{v.version}</span>
          <span>{v.headline || v.summary}</span>
        </li>
        {v.next.map((near) => (
          <NearVersion key={near.version} near={near} word="Next" path={path} at={at} />
        ))}
      </ul>
    </section>
  );
}

function NearVersion({ near, word, path, at }: { near: Schemas["NearVersion"]; word: string; path: string; at: string }) {
  const key = useShelfKey();
  return (
    <li title={`${near.author}, ${when(near.recorded)}`}>
      <span className="mut">{word}</span>
      <Link to={`/s/${key}/version?${new URLSearchParams({ path, ref: at, version: String(near.version) })}`}>v{near.version}</Link>
      <span>
        {near.headline || near.summary}
        {near.merged && <i className="w"> merged</i>}
      </span>
    </li>
  );
}

function Facts({ version: v }: { version: Given }) {
  const key = useShelfKey();
  const c = v.made_by;
  return (
    <section className="sheet" aria-label="Part of">
      <div className="ph">
        <h2 className="h3">Part of</h2>
      </div>
      <dl className="facts pad">
        <dt>Commit</dt>
        <dd>
          <Link className="mono" to={`/s/${key}/commit/${c.commit}`}>
            {c.commit.slice(0, 8)}
          </Link>{" "}
          {v.summary}
        </dd>
        <dt>Path</dt>
        <dd className="mono">
          {v.path}
          {v.moved_from && <span className="mut"> from {v.moved_from}</span>}
        </dd>
        <dt>Size</dt>
        <dd>{size(v.size)}</dd>
        {c.proposals.map((one) => (
          <Row key={one.number} word="Proposal">
            <Link to={`/s/${key}/proposals/${one.number}`}>
              {one.number}, {one.title}
            </Link>
            , {one.merged ? "merged by it" : one.state}
          </Row>
        ))}
        {c.runs.map((one) => (
          <Row key={`${one.experiment}${one.number}`} word="Run">
            <Link to={`/s/${key}/experiments/${one.experiment}`}>
              run {one.number} of “{one.question}”
            </Link>
            {one.made ? "" : ", which read it"}
          </Row>
        ))}
        {c.checks.map((one) => (
          <Row key={one.name} word="Check">
            <Tick met={one.passed} /> {one.name}
            {one.comment && `: ${one.comment}`}
          </Row>
        ))}
        {c.git.map((one) => (
          <Row key={`${one.git}${one.link}`} word="Git">
            <span className="mono">{one.git.slice(0, 12)}</span>
            {one.link && (
              <span className="mut">
                {" "}
                {one.fetched ? "fetched from" : "sent to"} {one.link}
              </span>
            )}
          </Row>
        ))}
        <dt>Content</dt>
        <dd className="mono">{v.content}</dd>
      </dl>
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
