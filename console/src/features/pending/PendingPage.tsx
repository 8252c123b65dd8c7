import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { summary as summaryOf } from "../../api/queries";
import { Mark } from "../../marks/Mark";
import { count, size, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { Words } from "../../parts/Words";
import { useDone } from "../../shell/Done";
import { LongTable } from "../../shell/LongTable";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, ProblemBox } from "../../shell/states";
import { isWaiting, SettleButton } from "../settle/SettleButton";
import { tasks as tasksQuery } from "../tasks/queries";
import { Keeping } from "./Keeping";
import { labelled, type Pending, usePending, wrongLabel } from "./pending";
import { SavePoints } from "./SavePoints";

export function PendingPage() {
  const key = useShelfKey();
  const { drafts, pending, saved, outOfReach } = usePending(key);
  const branches = drafts.map((d) => d.branch);
  const [made, setMade] = useState<Made | null>(null);
  return (
    <Page page="pending" title="Pending" at={branches[0] ?? "main"} say={<i className="j">pending changes</i>}>
      <h1>{pending.length ? `${count(pending.length, "artifact")} pending, saved ${when(saved)}.` : "No pending changes."}</h1>
      {pending.length > 0 && (
        <p className="sec">
          Saved on the server in your private draft. Closing the browser loses nothing.
          {drafts.map(
            ({ branch, until }) =>
              until &&
              ` ${drafts.length > 1 ? `Those on ${branch}` : "They"} are discarded on ${when(until)} unless you commit or save them before.`,
          )}
          {outOfReach && " The service is out of reach: what is saved there stays."}
        </p>
      )}
      {made && <Committed made={made} left={pending.length} />}
      {pending.length === 0 && !made && (
        <Empty>Upload, replace or remove artifacts on the shelf's page; they wait here until they are committed, all or nothing.</Empty>
      )}
      {branches.map((branch) => (
        <CommitForm key={branch} branch={branch} waiting={pending.filter((p) => p.branch === branch)} onMade={setMade} />
      ))}
      <Keeping shelf={key} />
    </Page>
  );
}

interface Made {
  commit: string;
  summary: string;
  branch: string;
  artifacts: number;
}

/** What went in, and what stays. */
function Committed({ made, left }: { made: Made; left: number }) {
  const key = useShelfKey();
  const note = useRef<HTMLElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the focus goes to it with each commit
  useEffect(() => note.current?.focus(), [made.commit]);
  return (
    <section className="sheet pad committed" aria-label="Committed" ref={note} tabIndex={-1}>
      <p>
        <span aria-hidden="true">✓</span> <b>“{made.summary}”</b> is on <span className="mono">{made.branch}</span> with{" "}
        {count(made.artifacts, "artifact")}. {left > 0 ? `${count(left, "artifact")} ${left === 1 ? "stays" : "stay"} pending.` : ""}
      </p>
      <p>
        <Link to={`/s/${key}/commit/${made.commit}`}>See the commit</Link>{" "}
        <Link to={`/s/${key}?ref=${encodeURIComponent(made.branch)}`}>All artifacts of {made.branch}</Link>
      </p>
    </section>
  );
}

function CommitForm({ branch, waiting, onMade }: { branch: string; waiting: Pending[]; onMade: (made: Made) => void }) {
  const key = useShelfKey();
  const { discard, restore, problem, drafts, again } = usePending(key);
  const done = useDone();
  const drop = async (p: Pending) => {
    await discard({ branch, paths: [p.path] });
    done({ said: `${p.path} is discarded.`, undo: () => restore({ branch, point: p.point }) });
  };
  const [trail, setTrail] = useState(false);
  const behind = drafts.find((d) => d.branch === branch)?.behind ?? false;
  const [left, setLeft] = useState<string[]>([]);
  const [summary, setSummary] = useState("");
  const [description, setDescription] = useState("");
  const [tasks, setTasks] = useState<string[]>([]);
  const [labels, setLabels] = useState<string[]>([]);
  const queries = useQueryClient();
  const out = new Set(left);
  const chosen = waiting.filter((p) => !out.has(p.path));
  const commit = useMutation({
    mutationFn: (merge: boolean) =>
      answer(
        api.POST("/shelves/{shelf}/drafts/commit", {
          params: { path: { shelf: key } },
          body: {
            branch,
            summary,
            description,
            tasks,
            labels: labelled(labels),
            merge,
            paths: chosen.map((p) => p.path),
          },
        }),
      ),
    onSuccess: async (made) => {
      onMade({ commit: made.commit, summary: made.summary, branch, artifacts: chosen.length });
      setSummary("");
      setDescription("");
      await again();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <form
      className="sheet"
      style={{ marginTop: 10, maxWidth: 900 }}
      onSubmit={(e) => {
        e.preventDefault();
        commit.mutate(false);
      }}
    >
      <div className="ph">
        <h2 className="h3">For {branch}</h2>
        {behind && <span className="readonly">{branch} has moved on</span>}
        <span className="r">
          <TextAct aria-expanded={trail} onClick={() => setTrail(!trail)}>
            Save points
          </TextAct>
        </span>
      </div>
      {problem && (
        <div className="pad">
          <ProblemBox error={problem} />
        </div>
      )}
      <div className="pad">
        <Field
          id={`summary-${branch}`}
          label="Summary"
          wide
          required
          maxLength={300}
          value={summary}
          onChange={(e) => setSummary(e.target.value)}
        />
        <Field
          id={`description-${branch}`}
          label="Description"
          rows={2}
          value={description}
          onChange={(e) => setDescription(e.target.value)}
        />
        <Named branch={branch} tasks={tasks} onTasks={setTasks} labels={labels} onLabels={setLabels} />
        {commit.isError && <ProblemBox error={commit.error} />}
        <div className="line1">
          <Button type="submit" variant="contained" disabled={commit.isPending || chosen.length === 0 || !!wrongLabel(labels)}>
            Commit {count(chosen.length, "artifact")}
          </Button>
          {commit.isError && !isWaiting(commit.error) && (
            <Button onClick={() => commit.mutate(true)}>Merge with newer commits and commit</Button>
          )}
          <SettleButton error={commit.error} />
          <span className="end">
            <TextAct disabled={left.length === 0} onClick={() => setLeft([])}>
              Commit all
            </TextAct>
            <TextAct disabled={chosen.length === 0} onClick={() => setLeft(waiting.map((p) => p.path))}>
              Commit none
            </TextAct>
          </span>
        </div>
      </div>
      <LongTable
        caption={`Pending artifacts for ${branch}`}
        maxHeight="520px"
        columns={7}
        count={waiting.length}
        head={
          <tr>
            <th>Commit</th>
            <th>State</th>
            <th>Artifact</th>
            <th className="num">Size</th>
            <th>Saved</th>
            <th>
              <span className="sr">Comparison</span>
            </th>
            <th>
              <span className="sr">Action</span>
            </th>
          </tr>
        }
        row={(index, place) => {
          const p = waiting[index];
          return (
            p && (
              <tr key={p.path} {...place}>
                <td>
                  <CheckField
                    aria-label={`Commit ${p.path}`}
                    checked={!left.includes(p.path)}
                    onChange={(e) => setLeft(e.target.checked ? left.filter((x) => x !== p.path) : [...left, p.path])}
                  />
                </td>
                <td>
                  <Mark action={p.state} /> {p.state}
                </td>
                <td>
                  <b>{p.path}</b>
                </td>
                <td className="num">{p.content ? size(p.size) : ""}</td>
                <td>{when(p.made)}</td>
                <td>
                  <Link to={`/s/${key}/compare?${new URLSearchParams({ path: p.path, from: branch, to: `draft:${branch}` })}`}>
                    Compare
                  </Link>
                </td>
                <td>
                  <TextAct onClick={() => void drop(p)}>Discard</TextAct>
                </td>
              </tr>
            )
          );
        }}
      />
      {trail && (
        <>
          <div className="ph">
            <h2 className="h3">Save points</h2>
            <span className="cap">every state that was saved, newest first</span>
          </div>
          <SavePoints branch={branch} />
        </>
      )}
    </form>
  );
}

/** What the commit is for, and what it is marked with: seldom needed, so folded away at first. */
function Named({
  branch,
  tasks,
  onTasks,
  labels,
  onLabels,
}: {
  branch: string;
  tasks: string[];
  onTasks: (tasks: string[]) => void;
  labels: string[];
  onLabels: (labels: string[]) => void;
}) {
  const key = useShelfKey();
  const [shown, setShown] = useState(false);
  const known = useInfiniteQuery({ ...tasksQuery(key), enabled: shown });
  const state = useQuery({ ...summaryOf(key, branch), enabled: shown });
  if (!shown)
    return (
      <p>
        <TextAct aria-expanded={false} onClick={() => setShown(true)}>
          Tasks and labels
        </TextAct>
      </p>
    );
  return (
    <div className="fieldrow">
      <Words
        label="Tasks"
        value={tasks}
        options={known.data?.pages.flatMap((page) => page.items.map((one) => one.task)) ?? []}
        onChange={onTasks}
        placeholder="such as SK-251"
      />
      <Words
        label="Labels"
        value={labels}
        options={state.data?.labels ?? []}
        onChange={onLabels}
        placeholder="such as checked=yes"
        wrong={wrongLabel(labels)}
      />
    </div>
  );
}
