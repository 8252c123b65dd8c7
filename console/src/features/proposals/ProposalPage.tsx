import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { comparison } from "../../api/queries";
import { Tick } from "../../marks/Mark";
import { KindIcon } from "../../marks/spines";
import { count, fileName, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Page, useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { StateTable } from "../compare/StateTable";
import { TaskLink } from "../tasks/TaskLink";
import { ProposalActs } from "./ProposalActs";
import { type Proposal, proposal } from "./queries";
import { Remarks } from "./Remarks";
import { Verdicts } from "./Verdicts";

export function ProposalPage() {
  const key = useShelfKey();
  const number = Number(useParams().number);
  const found = useQuery(proposal(key, number));
  const p = found.data;
  const say = p ? (
    <>
      <i className="j">proposal {p.number}:</i> <span className="mono refname">{p.source}</span> <i>into</i>{" "}
      <span className="mono refname">{p.target}</span>
    </>
  ) : (
    <i className="j">proposal {number}</i>
  );
  return (
    <Page page="proposals" title={p ? `Proposal ${number}: ${p.title}` : `Proposal ${number}`} at="main" say={say}>
      {found.isPending && <Loading what="Reading the proposal" />}
      {found.isError && <ProblemBox error={found.error} />}
      {p && <Shown p={p} />}
    </Page>
  );
}

function Shown({ p }: { p: Proposal }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const [about, setAbout] = useState("");
  const act = useMutation({
    mutationFn: (call: () => Promise<Proposal>) => call(),
    onSuccess: (answer) => queries.setQueryData(proposal(key, p.number).queryKey, answer),
  });
  const from = `commit:${p.base ?? p.head}`;
  const brought = useQuery({ ...comparison(key, from, `commit:${p.head}`), enabled: p.base !== null });
  const state = p.state === "open" ? `opened ${when(p.created)}` : `${p.state} ${when(p.closed)} by ${p.closed_by}`;
  return (
    <>
      <div className="line1 proposaltop">
        <div>
          <h1>{p.title}</h1>
          <p className="sec">
            By {p.created_by}, {state}. {brought.data ? brought.data.sentence : ""}{" "}
            {p.state === "open" && `${count(p.ahead, "commit")} ahead of ${p.target}, ${p.behind} behind.`}
            {p.tasks.map((t) => (
              <TaskLink key={t} task={t} />
            ))}
          </p>
          {p.description && <p className="description">{p.description}</p>}
        </div>
        <ProposalActs p={p} act={act} />
      </div>
      {act.isError && <ProblemBox error={act.error} />}
      <div className="proposal">
        <div className="stack">
          {p.state === "open" && <BeforeMerging p={p} />}
          {p.conflicts.length > 0 && <Conflicts p={p} />}
          <section aria-label="Changes">
            {brought.isError && <ProblemBox error={brought.error} />}
            {brought.data && <StateTable artifacts={brought.data.artifacts} onOpen={setAbout} />}
            {about && (
              <p className="sheet pad">
                <b>{fileName(about)}</b>:{" "}
                <Link
                  to={`/s/${key}/compare?${new URLSearchParams({ path: about, from, to: `commit:${p.head}`, proposal: String(p.number) })}`}
                >
                  see its findings part by part
                </Link>
                , or remark on it at the right. <TextAct onClick={() => setAbout("")}>Clear selection</TextAct>
              </p>
            )}
          </section>
        </div>
        <div className="stack">
          <Verdicts p={p} act={act} />
          <Checks p={p} />
          <Remarks p={p} act={act} about={about} />
        </div>
      </div>
    </>
  );
}

function BeforeMerging({ p }: { p: Proposal }) {
  return (
    <section className="sheet" aria-label="Before merging">
      <div className="ph">
        <h2 className="h3">{p.not_met.length ? `Before merging: ${count(p.not_met.length, "open point")}` : "Ready to merge"}</h2>
        <span className="cap">can be merged by: {p.who_merges}</span>
      </div>
      <ul className="holds">
        {p.not_met.map((h) => (
          <li key={h.message}>
            <Tick met={false} /> {h.message}
          </li>
        ))}
        {p.not_met.length === 0 && (
          <li>
            <Tick met /> Merges cleanly into {p.target}
            {p.combined > 0 ? `; ${count(p.combined, "artifact")} merged by meaning` : ""}.
          </li>
        )}
      </ul>
    </section>
  );
}

function Conflicts({ p }: { p: Proposal }) {
  const key = useShelfKey();
  return (
    <section className="sheet" aria-label="Conflicts">
      <div className="ph">
        <h2 className="h3">
          {count(p.conflicts.length, "conflict")} with {p.target}
        </h2>
        <span className="cap">settle them before merging</span>
        {p.merge && (
          <span className="r">
            <Link to={`/s/${key}/settle/${p.merge}`}>Settle them</Link>
          </span>
        )}
      </div>
      <ul className="plainlist">
        {p.conflicts.map((c) => (
          <li key={`${c.path} ${c.part} ${c.why}`}>
            <KindIcon kind={c.kind || "opaque"} />
            <span>
              <b>{fileName(c.path)}</b>: {c.why}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Checks({ p }: { p: Proposal }) {
  return (
    <section className="sheet" aria-label="Checks">
      <div className="ph">
        <h2 className="h3">Checks</h2>
        <span className="cap">of {p.head.slice(0, 8)}</span>
      </div>
      <ul className="holds">
        {p.checks.map((c) => (
          <li key={c.name}>
            <Tick met={c.passed} />{" "}
            <span>
              <b>{c.name}</b> {c.passed ? "passed" : "failed"}
              {c.comment && `: ${c.comment}`}{" "}
              <span className="cap">
                {c.made_by}, {when(c.made)}
              </span>
            </span>
          </li>
        ))}
        {p.checks.length === 0 && <li className="mut">None is recorded. A program records one with everyshelf check record.</li>}
      </ul>
    </section>
  );
}
