import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api, ProblemError } from "../../api/client";
import { type Branch, branches, shelf, tags } from "../../api/queries";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { Sheet, type SheetState, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { undoCommit, useDone } from "../../shell/Done";
import { Page, useMe, useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { GitState } from "../git/GitState";
import { FollowAct } from "../news/FollowAct";
import { SettleButton } from "../settle/SettleButton";
import { WaitingMerges } from "../settle/WaitingMerges";
import { LinesView } from "./LinesView";
import { UnpackParcel } from "./UnpackParcel";

export function BranchesPage() {
  const key = useShelfKey();
  const lines = useInfiniteQuery(branches(key));
  const marks = useInfiniteQuery(tags(key));
  return (
    <Page page="branches" title="Branches and tags" at="main" say={<i className="j">branches and tags</i>}>
      <div className="line1">
        <h1>
          {lines.data && marks.data
            ? `${count(lines.data.pages[0]?.total ?? 0, "branch", "branches")} and ${count(marks.data.pages[0]?.total ?? 0, "tag")}.`
            : "Branches and tags"}
        </h1>
        <span className="end">
          <UnpackParcel />
          <MakeTag />
          <MakeBranch />
        </span>
      </div>
      {lines.isPending && <Loading what="Reading branches" />}
      {lines.isError && <ProblemBox error={lines.error} />}
      <WaitingMerges />
      <LinesView />
      {lines.data && <BranchTable rows={lines.data.pages.flatMap((page) => page.items)} />}
      {lines.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void lines.fetchNextPage()}>Show more branches</TextAct>
        </p>
      )}
      {marks.data && (
        <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Tags">
          <div className="ph">
            <h2 className="h3">Tags</h2>
            <span className="cap">they never move</span>
          </div>
          <Table>
            <thead>
              <tr>
                <th>Tag</th>
                <th>Made</th>
                <th>By</th>
                <th>Note</th>
                <th>Ran in</th>
                <th>Commit</th>
                <th>
                  <span className="sr">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {marks.data.pages
                .flatMap((page) => page.items)
                .map((t) => (
                  <tr key={t.name}>
                    <td>
                      <Link className="mono" to={`/s/${key}?ref=tag:${encodeURIComponent(t.name)}`}>
                        {t.name}
                      </Link>
                    </td>
                    <td>{when(t.created)}</td>
                    <td>{t.created_by}</td>
                    <td className="sec">
                      {t.note}
                      {t.selection ? ` (${count(t.selection.length, "artifact")})` : ""}
                    </td>
                    <td>{t.environments.join(", ") || "nowhere yet"}</td>
                    <td className="mono">{t.commit.slice(0, 8)}</td>
                    <td>
                      <Link to={`/s/${key}/compare?from=tag:${encodeURIComponent(t.name)}`}>Compare with main</Link>{" "}
                      <a href={`/api/v1/shelves/${key}/parcel?ref=tag:${encodeURIComponent(t.name)}`} download>
                        Pack
                      </a>
                    </td>
                  </tr>
                ))}
            </tbody>
          </Table>
        </section>
      )}
      {marks.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void marks.fetchNextPage()}>Show older tags</TextAct>
        </p>
      )}
    </Page>
  );
}

function BranchTable({ rows }: { rows: Branch[] }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
  const [source, setSource] = useState("");
  const done = useDone();
  const remove = async (b: Branch) => {
    await answer(api.DELETE("/shelves/{shelf}/branches/{name}", { params: { path: { shelf: key, name: b.name } } }));
    await queries.invalidateQueries({ queryKey: ["shelf", key] });
    const again = { name: b.name, start: `commit:${b.head}`, note: b.note };
    const undo = async () => {
      await answer(api.POST("/shelves/{shelf}/branches", { params: { path: { shelf: key } }, body: again }));
      if (b.guarded)
        await answer(
          api.PATCH("/shelves/{shelf}/branches/{name}", { params: { path: { shelf: key, name: b.name } }, body: { guarded: true } }),
        );
    };
    done({ said: `Branch ${b.name} is deleted.`, undo: b.head ? undo : undefined });
  };
  const owner = useQuery(shelf(key)).data?.role === "owner";
  const guard = useMutation({
    mutationFn: (b: Branch) =>
      answer(
        api.PATCH("/shelves/{shelf}/branches/{name}", { params: { path: { shelf: key, name: b.name } }, body: { guarded: !b.guarded } }),
      ),
    onSuccess: async (_, b) => {
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      const back = () =>
        answer(
          api.PATCH("/shelves/{shelf}/branches/{name}", { params: { path: { shelf: key, name: b.name } }, body: { guarded: b.guarded } }),
        );
      done({ said: `${b.name} is ${b.guarded ? "not guarded now" : "guarded now"}.`, undo: back });
    },
  });
  return (
    <section className="sheet scroll" aria-label="Branches">
      <div className="ph">
        <h2 className="h3">Branches</h2>
      </div>
      {guard.isError && (
        <div className="pad">
          <ProblemBox error={guard.error} />
        </div>
      )}
      <Table>
        <thead>
          <tr>
            <th>Branch</th>
            <th>Ahead, behind main</th>
            <th>Newest commit</th>
            <th>By</th>
            <th>When</th>
            <th>Note</th>
            <th>
              <span className="sr">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((b) => (
            <tr key={b.name}>
              <td className="wrap">
                <Link className="mono" to={`/s/${key}?ref=${encodeURIComponent(b.name)}`}>
                  {b.name}
                </Link>
                {b.guarded && (
                  <span className="readonly" style={{ marginLeft: 8 }}>
                    guarded
                  </span>
                )}{" "}
                <GitState branch={b.name} />
              </td>
              <td>{b.main ? "" : <Distance ahead={b.ahead} behind={b.behind} />}</td>
              <td>{b.summary || <span className="mut">no commit yet</span>}</td>
              <td>{b.author}</td>
              <td>{when(b.recorded)}</td>
              <td className="sec wrap">{b.note}</td>
              <td>
                <div className="rowacts">
                  {!b.main && <Link to={`/s/${key}/compare?${new URLSearchParams({ from: "main", to: b.name })}`}>Compare</Link>}
                  {!b.main && b.ahead > 0 && <Link to={`/s/${key}/proposals?propose=${encodeURIComponent(b.name)}`}>Propose</Link>}
                  <FollowAct shelf={key} branch={b.name} />
                  {owner && <TextAct onClick={() => guard.mutate(b)}>{b.guarded ? "Remove guard" : "Guard"}</TextAct>}
                  {!b.main && (
                    <TextAct
                      onClick={() => {
                        setSource(b.name);
                        dialog.show();
                      }}
                    >
                      Merge
                    </TextAct>
                  )}
                  {!b.main && (
                    <Ask
                      label="Delete"
                      title={`Delete branch ${b.name}`}
                      does={
                        b.ahead > 0
                          ? `${count(b.ahead, "commit")} of it ${b.ahead === 1 ? "is" : "are"} not in main. Without the branch they are found by their ids only.`
                          : "All its commits are in main, and stay in its history."
                      }
                      act="Delete the branch"
                      onAct={() => remove(b)}
                    />
                  )}
                </div>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <MergeDialog dialog={dialog} source={source} />
    </section>
  );
}

/** Ahead to the right, behind to the left of a middle line; the numbers say it. */
function Distance({ ahead, behind }: { ahead: number; behind: number }) {
  const w = (n: number) => Math.min(40, n * 4);
  return (
    <span style={{ display: "inline-flex", gap: 8, alignItems: "center" }}>
      <svg width="84" height="12" aria-hidden="true">
        <rect x={42 - w(behind)} y="3" width={w(behind)} height="6" fill="none" stroke="var(--line-strong)" strokeDasharray="2 2" />
        <rect x="42" y="3" width={w(ahead)} height="6" fill="var(--accent)" />
        <path d="M42 0V12" stroke="var(--ink)" />
      </svg>
      {ahead} ahead, {behind} behind
    </span>
  );
}

function MergeDialog({ dialog, source }: { dialog: SheetState; source: string }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const [deleteSource, setDeleteSource] = useState(false);
  const [anyway, setAnyway] = useState("");
  const [said, setSaid] = useState("");
  const done = useDone();
  const merge = useMutation({
    mutationFn: (prefer: "target" | "source" | null) =>
      answer(
        api.POST("/shelves/{shelf}/merge", {
          params: { path: { shelf: key } },
          body: {
            source,
            target: "main",
            prefer,
            delete_source: deleteSource,
            reason: anyway,
          },
        }),
      ),
    onSuccess: async (result) => {
      setSaid(result.commit ? `${count(result.taken, "artifact")} merged.` : "Nothing to merge: main already contains everything.");
      if (result.commit)
        done({
          said: `${source} is merged into main.`,
          to: `/s/${key}/commit/${result.commit}`,
          undo: undoCommit(key, "main", result.commit),
        });
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  const proposed = merge.error instanceof ProblemError && merge.error.problem.code === "merge.proposed";
  return (
    <Sheet
      of={dialog}
      label="Merge a branch"
      onClose={() => {
        merge.reset();
        setSaid("");
        setAnyway("");
      }}
    >
      <h2>Merge {source} into main</h2>
      <p className="sec sm">Artifacts changed on both branches are merged by meaning. Conflicts are kept for you to settle.</p>
      <CheckField checked={deleteSource} onChange={(e) => setDeleteSource(e.target.checked)}>
        Delete the branch after merging
      </CheckField>
      {merge.isError && <ProblemBox error={merge.error} />}
      {proposed && (
        <Field id="past" label="Reason for merging past the proposal" required value={anyway} onChange={(e) => setAnyway(e.target.value)} />
      )}
      {said && (
        <p role="status">
          <b>{said}</b>
        </p>
      )}
      <div className="acts">
        <Button onClick={() => dialog.hide()}>Close</Button>
        <SettleButton error={merge.error} />
        {!said && (
          <Button variant="contained" disabled={merge.isPending || (proposed && !anyway.trim())} onClick={() => merge.mutate(null)}>
            {proposed ? "Merge past it" : "Merge"}
          </Button>
        )}
      </div>
    </Sheet>
  );
}

function MakeBranch() {
  const key = useShelfKey();
  const me = useMe();
  return (
    <MakeRef
      what="branch"
      fields={[
        ["note", "What it is for", ""],
        ["name", "Name", (v) => `${me}/${inName(v.note ?? "")}`],
        ["start", "From", "main"],
      ]}
      primary
      onMake={({ name = "", note, start }) =>
        answer(api.POST("/shelves/{shelf}/branches", { params: { path: { shelf: key } }, body: { name, note, start } }))
      }
    />
  );
}

function MakeTag() {
  const key = useShelfKey();
  return (
    <MakeRef
      what="tag"
      fields={[
        ["name", "Name", ""],
        ["ref", "At", "main"],
        ["note", "What it stands for", ""],
      ]}
      onMake={({ name = "", note, ref }) =>
        answer(api.POST("/shelves/{shelf}/tags", { params: { path: { shelf: key } }, body: { name, note, ref } }))
      }
    />
  );
}

/** Words as they stand in a name. */
function inName(said: string): string {
  const words =
    said
      .toLowerCase()
      .normalize("NFKD")
      .match(/[a-z0-9]+/g) ?? [];
  return words.slice(0, 3).join("-");
}

type Values = Record<string, string>;
/** Id, label, and what stands there until something else is typed. */
type Asked = [string, string, string | ((values: Values) => string)];

interface MakeRefProps {
  what: string;
  fields: Asked[];
  primary?: boolean;
  onMake: (values: Values) => Promise<unknown>;
}

function MakeRef({ what, fields, primary = false, onMake }: MakeRefProps) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
  const [values, setValues] = useState<Values>({});
  const startOf = ([id, , start]: Asked) => values[id] ?? (typeof start === "string" ? start : start(values));
  const make = useMutation({
    mutationFn: () => onMake(Object.fromEntries(fields.map((field) => [field[0], startOf(field)]))),
    onSuccess: async () => {
      dialog.hide();
      setValues({});
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant={primary ? "contained" : "outlined"} onClick={() => dialog.show()}>
        Make a {what}
      </Button>
      <Sheet of={dialog} label={`Make a ${what}`}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>Make a {what}</h2>
          {fields
            .map((field) => ({ field, id: field[0], label: field[1] }))
            .map(({ field, id, label }) => (
              <div key={id}>
                <Field
                  id={`${what}-${id}`}
                  label={label}
                  required={id === "name"}
                  value={startOf(field)}
                  onChange={(e) => setValues({ ...values, [id]: e.target.value })}
                />
              </div>
            ))}
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={make.isPending}>
              Make the {what}
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
