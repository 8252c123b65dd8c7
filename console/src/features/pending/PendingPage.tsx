import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { send } from "../../api/client";
import { Mark } from "../../marks/Mark";
import { count, size, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { LongTable } from "../../shell/LongTable";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, ProblemBox } from "../../shell/states";
import { isWaiting, SettleButton } from "../settle/SettleButton";
import { type Pending, usePending } from "./pending";
import { SavePoints } from "./SavePoints";

export function PendingPage() {
  const key = useShelfKey();
  const { drafts, pending, saved, outOfReach } = usePending(key);
  const branches = drafts.map((d) => d.branch);
  return (
    <Page page="pending" title="Pending" at={branches[0] ?? "main"} say={<i className="j">pending changes</i>}>
      <h1>{pending.length ? `${count(pending.length, "artifact")} pending, saved ${when(saved)}.` : "No pending changes."}</h1>
      {pending.length > 0 && (
        <p className="sec">
          Saved on the server in your private draft. Closing the browser loses nothing.
          {outOfReach && " The service is out of reach: what is saved there stays."}
        </p>
      )}
      {pending.length === 0 && (
        <Empty>Upload, replace or remove artifacts on the shelf's page; they wait here until they are committed, all or nothing.</Empty>
      )}
      {branches.map((branch) => (
        <CommitForm key={branch} branch={branch} waiting={pending.filter((p) => p.branch === branch)} />
      ))}
    </Page>
  );
}

function CommitForm({ branch, waiting }: { branch: string; waiting: Pending[] }) {
  const key = useShelfKey();
  const { discard, problem, drafts, again } = usePending(key);
  const [trail, setTrail] = useState(false);
  const behind = drafts.find((d) => d.branch === branch)?.behind ?? false;
  const [left, setLeft] = useState<string[]>([]);
  const [summary, setSummary] = useState("");
  const [description, setDescription] = useState("");
  const queries = useQueryClient();
  const go = useNavigate();
  const out = new Set(left);
  const chosen = waiting.filter((p) => !out.has(p.path));
  const commit = useMutation({
    mutationFn: (merge: boolean) =>
      send("POST", `shelves/${key}/drafts/commit`, {
        branch,
        summary,
        description,
        merge,
        paths: chosen.map((p) => p.path),
      }),
    onSuccess: async () => {
      await again();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      await go(`/s/${key}?ref=${encodeURIComponent(branch)}`);
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
        {commit.isError && <ProblemBox error={commit.error} />}
        <div className="line1">
          <Button type="submit" variant="contained" disabled={commit.isPending || chosen.length === 0}>
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
                  <TextAct onClick={() => void discard({ branch, paths: [p.path] })}>Discard</TextAct>
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
