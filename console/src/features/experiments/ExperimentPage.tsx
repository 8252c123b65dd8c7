import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { answer, api } from "../../api/client";
import { session, shelf } from "../../api/queries";
import { count, when } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { CoursePlot } from "./CoursePlot";
import { asCsv, branchesOf, mostTried } from "./model";
import { PointPlot } from "./PointPlot";
import { courses, type Experiment, experiment } from "./queries";
import { RunDetail } from "./RunDetail";
import { RunTable } from "./RunTable";

export function ExperimentPage() {
  const key = useShelfKey();
  const name = useParams().experiment ?? "";
  const [base, setBase] = useParam("base");
  const found = useQuery(experiment(key, name, base));
  const e = found.data;
  const branches = e ? new Set(e.runs.map((r) => r.branch)).size : 0;
  const say = (
    <>
      <i className="j">experiment</i> <b>{name.replace(/-/g, " ")}</b>
      {branches > 0 && (
        <>
          <i>on</i> <span className="refname">{count(branches, "branch", "branches")}</span>
        </>
      )}
    </>
  );
  return (
    <Page page="experiments" title={e ? e.question : "An experiment"} at="main" say={say}>
      {found.isPending && <Loading what="Reading the runs" />}
      {found.isError && <ProblemBox error={found.error} />}
      {e && <Shown e={e} onBase={(n) => setBase(String(n))} />}
    </Page>
  );
}

function Shown({ e, onBase }: { e: Experiment; onBase: (run: number) => void }) {
  const key = useShelfKey();
  const [only, setOnly] = useParam("columns");
  const [asked, setAsked] = useState<number | null>(null);
  const done = e.runs.filter((r) => r.state === "done");
  const primary = e.columns.find((c) => c.group === "metrics" && c.name === e.primary);
  const best = primary ? done.find((r) => r.cells.metrics[primary.name]?.best)?.number : undefined;
  const chosen = asked ?? best ?? done.at(-1)?.number ?? e.runs.at(-1)?.number ?? null;
  const [ticks, setTicks] = useState<Set<number> | null>(null);
  const ticked = ticks ?? new Set([e.base, best, done.at(-1)?.number].filter((n): n is number => typeof n === "number"));
  const columns = e.columns.filter((c) => !only || c.differs);
  const branches = useMemo(() => branchesOf(e), [e]);
  const run = e.runs.find((r) => r.number === chosen);
  const tick = (n: number) => {
    const next = new Set(ticked);
    if (!next.delete(n)) next.add(n);
    setTicks(next);
  };
  const raw = useQuery(session()).data?.raw_csv ?? false;
  const save = () => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([asCsv(columns, e.runs, raw)], { type: "text/csv" }));
    link.download = `${e.key}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <>
      <p className="cap">
        Question, asked by {e.created_by}, {when(e.created)}
      </p>
      <div className="line1 proposaltop" style={{ marginTop: 0 }}>
        <div>
          <h1>{e.question}</h1>
          <p className="sec">
            {e.answer}
            {e.state === "abandoned" && ` Abandoned by ${e.closed_by}: ${e.reason}`}
            {e.state === "adopted" && (
              <>
                {" "}
                Adopted:{" "}
                <Link to={`/s/${key}/proposals/${e.proposal}`}>
                  proposal {e.proposal}, {e.proposal_state}
                </Link>
                .
              </>
            )}
          </p>
        </div>
        {e.state === "open" && <Closing e={e} branches={branches.map((b) => b.name)} />}
      </div>
      {e.runs.length === 0 && (
        <Empty>
          No run yet. On a desk of {e.branch}, <span className="mono">everyshelf run</span> runs a command with the parameters you give.
          What it writes is committed, and what it read and measured is kept with it.
        </Empty>
      )}
      {e.runs.length > 0 && (
        <>
          <section className="sheet" aria-label="Runs">
            <div className="ph">
              <h2 className="h3">Runs</h2>
              <span className="cap">
                {e.runs.length} of {count(branches.length, "branch", "branches")}; <span className="df">marked</span> where a run differs
                from run {e.base}
              </span>
              <span className="r">
                <Switch label="Columns">
                  <Part pressed={!only} onClick={() => setOnly("")}>
                    All columns
                  </Part>
                  <Part pressed={Boolean(only)} onClick={() => setOnly("differing")}>
                    Only columns that differ
                  </Part>
                </Switch>
                <TextAct onClick={save}>Save as CSV</TextAct>
              </span>
            </div>
            <RunTable
              found={e}
              columns={columns}
              branches={branches}
              ticked={ticked}
              chosen={chosen}
              onTick={tick}
              onChoose={setAsked}
              onBase={onBase}
            />
          </section>
          <Plots e={e} branches={branches} ticked={ticked} chosen={chosen} onChoose={setAsked}>
            {run && <RunDetail run={run} found={e} />}
          </Plots>
        </>
      )}
    </>
  );
}

function Plots({
  e,
  branches,
  ticked,
  chosen,
  onChoose,
  children,
}: {
  e: Experiment;
  branches: ReturnType<typeof branchesOf>;
  ticked: Set<number>;
  chosen: number | null;
  onChoose: (run: number) => void;
  children: React.ReactNode;
}) {
  const key = useShelfKey();
  const metrics = e.columns.filter((c) => c.group === "metrics");
  const parameters = e.columns.filter((c) => c.group === "parameters" && c.differs);
  const [metricName, setMetric] = useState("");
  const [parameterName, setParameter] = useState<string | null>(null);
  const metric = metrics.find((c) => c.name === metricName) ?? metrics.find((c) => c.name === e.primary) ?? metrics[0];
  const parameter = parameterName === "" ? undefined : (parameters.find((c) => c.name === parameterName) ?? mostTried(e, parameters));
  const named = [...new Set(e.runs.flatMap((r) => Object.keys(r.courses)))];
  const [courseName, setCourse] = useState("");
  const course = named.includes(courseName) ? courseName : named.includes(metric?.name ?? "") ? (metric?.name ?? "") : (named[0] ?? "");
  const drawn = useQuery({
    ...courses(key, e.key, course, [...ticked].sort((a, b) => a - b).join(",")),
    enabled: course !== "" && ticked.size > 0,
  });
  if (!metric)
    return (
      <div className="plots">
        <p className="sheet pad mut">
          No run has measured anything yet: name the files that hold metrics in shelf.toml, under [experiments].
        </p>
        {children}
      </div>
    );
  return (
    <div className="plots">
      <section className="sheet" aria-label="Runs as points">
        <div className="ph">
          <Choice aria-label="Parameter" value={parameter?.name ?? ""} onChange={(x) => setParameter(x.target.value)}>
            <option value="">runs</option>
            {parameters.map((c) => (
              <option key={c.name}>{c.name}</option>
            ))}
          </Choice>
          <span className="cap">against</span>
          <Choice aria-label="Metric" value={metric.name} onChange={(x) => setMetric(x.target.value)}>
            {metrics.map((c) => (
              <option key={c.name}>{c.name}</option>
            ))}
          </Choice>
          <span className="r cap">{[metric.unit, metric.better && `${metric.better} is better`].filter(Boolean).join(", ")}</span>
        </div>
        <PointPlot found={e} metric={metric} parameter={parameter} branches={branches} chosen={chosen} onChoose={onChoose} />
      </section>
      <section className="sheet" aria-label="Courses">
        <div className="ph">
          <h2 className="h3">Course of</h2>
          {named.length > 1 ? (
            <Choice aria-label="Course" value={course} onChange={(x) => setCourse(x.target.value)}>
              {named.map((n) => (
                <option key={n}>{n}</option>
              ))}
            </Choice>
          ) : (
            <b>{course || "nothing"}</b>
          )}
          <span className="cap">{count(ticked.size, "ticked run")}, step by step</span>
        </div>
        {named.length === 0 && <p className="pad mut">No run has logged metrics per step.</p>}
        {named.length > 0 && ticked.size === 0 && <p className="pad mut">Select runs in the table to plot them.</p>}
        {drawn.data && drawn.data.length > 0 && (
          <CoursePlot courses={drawn.data} metric={course} unit={metrics.find((c) => c.name === course)?.unit ?? ""} branches={branches} />
        )}
        {drawn.data && drawn.data.length === 0 && ticked.size > 0 && (
          <p className="pad mut">None of the ticked runs logged {course || "one"}.</p>
        )}
      </section>
      {children}
    </div>
  );
}

function Closing({ e, branches }: { e: Experiment; branches: string[] }) {
  const key = useShelfKey();
  const go = useNavigate();
  const queries = useQueryClient();
  const info = useQuery(shelf(key));
  const adopting = useSheet();
  const leaving = useSheet();
  const others = branches.filter((b) => b !== e.target);
  const [branch, setBranch] = useState(e.branch);
  const [reason, setReason] = useState("");
  const again = () => queries.invalidateQueries({ queryKey: ["shelf", key] });
  const adopt = useMutation({
    mutationFn: () =>
      answer(api.POST("/shelves/{shelf}/experiments/{key}/adopt", { params: { path: { shelf: key, key: e.key } }, body: { branch } })),
    onSuccess: async (made) => {
      await again();
      await go(`/s/${key}/proposals/${made.proposal}`);
    },
  });
  const abandon = useMutation({
    mutationFn: () =>
      answer(api.POST("/shelves/{shelf}/experiments/{key}/abandon", { params: { path: { shelf: key, key: e.key } }, body: { reason } })),
    onSuccess: async () => {
      leaving.hide();
      await again();
    },
  });
  if (info.data?.role === "reader") return null;
  return (
    <span className="end">
      <Button variant="outlined" onClick={() => leaving.show()}>
        Abandon
      </Button>
      <Button variant="contained" onClick={() => adopting.show()}>
        Adopt {e.branch}
      </Button>
      <Sheet of={adopting} label="Adopt the experiment">
        <form
          onSubmit={(x) => {
            x.preventDefault();
            adopt.mutate();
          }}
        >
          <h2>Adopt it</h2>
          <p className="sec sm">
            A proposal asks that the branch be merged into {e.target}; the experiment is closed, and kept with all its runs.
          </p>
          <Choice id="adopt-branch" label="Branch" value={branch} onChange={(x) => setBranch(x.target.value)}>
            {[...new Set([e.branch, ...others])].map((b) => (
              <option key={b}>{b}</option>
            ))}
          </Choice>
          {adopt.isError && <ProblemBox error={adopt.error} />}
          <div className="acts">
            <Button onClick={() => adopting.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={adopt.isPending}>
              Open the proposal
            </Button>
          </div>
        </form>
      </Sheet>
      <Sheet of={leaving} label="Abandon the experiment">
        <form
          onSubmit={(x) => {
            x.preventDefault();
            abandon.mutate();
          }}
        >
          <h2>Abandon it</h2>
          <p className="sec sm">The branch and runs are kept. The reason is shown to anyone who asks the same question.</p>
          <Field id="abandon-why" label="Reason" required value={reason} onChange={(x) => setReason(x.target.value)} />
          {abandon.isError && <ProblemBox error={abandon.error} />}
          <div className="acts">
            <Button onClick={() => leaving.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={abandon.isPending}>
              Abandon it
            </Button>
          </div>
        </form>
      </Sheet>
    </span>
  );
}
