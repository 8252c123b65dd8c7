import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { send } from "../../api/client";
import { type Branch, branches, tags } from "../../api/queries";
import { count, when } from "../../marks/words";
import { Page, useMe, useShelfKey } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { SettleButton } from "../settle/SettleButton";
import { WaitingMerges } from "../settle/WaitingMerges";

export function BranchesPage() {
  const key = useShelfKey();
  const lines = useQuery(branches(key));
  const marks = useQuery(tags(key));
  return (
    <Page page="branches" title="Branches and tags" at="main" say={<i className="j">branches and tags</i>}>
      <div className="line1">
        <h1>{lines.data && marks.data ? `${count(lines.data.length, "branch", "branches")} and ${count(marks.data.length, "tag")}.` : "Branches and tags"}</h1>
        <span className="end"><MakeTag /><MakeBranch /></span>
      </div>
      {lines.isPending && <Loading what="Reading branches" />}
      {lines.isError && <ProblemBox error={lines.error} />}
      <WaitingMerges />
      {lines.data && <BranchTable rows={lines.data} />}
      {marks.data && (
        <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Tags">
          <div className="ph"><h3>Tags</h3><span className="cap">they never move</span></div>
          <table>
            <thead><tr><th>Tag</th><th>Made</th><th>By</th><th>Note</th><th>Ran in</th><th>Commit</th><th><span className="sr">Actions</span></th></tr></thead>
            <tbody>
              {marks.data.map((t) => (
                <tr key={t.name}>
                  <td><Link className="mono" to={`/s/${key}?ref=tag:${encodeURIComponent(t.name)}`}>{t.name}</Link></td>
                  <td>{when(t.created)}</td><td>{t.created_by}</td><td className="sec">{t.note}{t.selection ? ` (${count(t.selection.length, "artifact")})` : ""}</td>
                  <td>{t.environments.join(", ") || "nowhere yet"}</td><td className="mono">{t.commit.slice(0, 8)}</td>
                  <td><Link to={`/s/${key}/compare?from=tag:${encodeURIComponent(t.name)}`}>Compare with main</Link></td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </Page>
  );
}

function BranchTable({ rows }: { rows: Branch[] }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [source, setSource] = useState("");
  const drop = useMutation({
    mutationFn: (name: string) => send("DELETE", `shelves/${key}/branches/${encodeURI(name)}`),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["shelf", key] }),
  });
  return (
    <section className="sheet scroll" aria-label="Branches">
      <div className="ph"><h3>Branches</h3></div>
      {drop.isError && <div className="pad"><ProblemBox error={drop.error} /></div>}
      <table>
        <thead><tr><th>Branch</th><th>Ahead, behind main</th><th>Newest commit</th><th>By</th><th>When</th><th>Note</th><th><span className="sr">Actions</span></th></tr></thead>
        <tbody>
          {rows.map((b) => (
            <tr key={b.name}>
              <td><Link className="mono" to={`/s/${key}?ref=${encodeURIComponent(b.name)}`}>{b.name}</Link>{b.guarded && <span className="readonly" style={{ marginLeft: 8 }}>guarded</span>}</td>
              <td>{b.main ? "" : <Distance ahead={b.ahead} behind={b.behind} />}</td>
              <td>{b.summary || <span className="mut">no commit yet</span>}</td><td>{b.author}</td><td>{when(b.recorded)}</td><td className="sec">{b.note}</td>
              <td style={{ display: "flex", gap: 10, alignItems: "center" }}>
                {!b.main && <Link to={`/s/${key}/compare?${new URLSearchParams({ from: "main", to: b.name })}`}>Compare</Link>}
                {!b.main && <button type="button" className="plainbtn" onClick={() => { setSource(b.name); dialog.current?.showModal(); }}>Merge</button>}
                {!b.main && <button type="button" className="plainbtn" onClick={() => drop.mutate(b.name)}>Drop</button>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
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

function MergeDialog({ dialog, source }: { dialog: React.RefObject<HTMLDialogElement | null>; source: string }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const [drop, setDrop] = useState(false);
  const [said, setSaid] = useState("");
  const merge = useMutation({
    mutationFn: (prefer: string | null) => send<{ commit: string | null; taken: number }>("POST", `shelves/${key}/merge`, { source, target: "main", prefer, drop }),
    onSuccess: async (result) => {
      setSaid(result.commit ? `${count(result.taken, "artifact")} taken over.` : "Everything is on main already.");
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <dialog ref={dialog} aria-label="Merge a branch" onClose={() => { merge.reset(); setSaid(""); }}>
      <h2>Merge {source} into main</h2>
      <p className="sec sm">What both sides changed is put together by what it means; what cannot be decided waits for you to settle it.</p>
      <label><input type="checkbox" checked={drop} onChange={(e) => setDrop(e.target.checked)} /> Drop the branch in the same act</label>
      {merge.isError && <ProblemBox error={merge.error} />}
      {said && <p role="status"><b>{said}</b></p>}
      <div className="acts">
        <Button onClick={() => dialog.current?.close()}>Close</Button>
        <SettleButton error={merge.error} />
        {!said && <Button variant="contained" disabled={merge.isPending} onClick={() => merge.mutate(null)}>Merge</Button>}
      </div>
    </dialog>
  );
}

function MakeBranch() {
  const me = useMe();
  return <MakeRef what="branch" fields={[["name", "Name", `${me}/`], ["start", "From", "main"], ["note", "What it is for", ""]]} where="branches" primary />;
}

function MakeTag() {
  return <MakeRef what="tag" fields={[["name", "Name", ""], ["ref", "At", "main"], ["note", "What it stands for", ""]]} where="tags" />;
}

function MakeRef({ what, fields, where, primary = false }: { what: string; fields: [string, string, string][]; where: string; primary?: boolean }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [values, setValues] = useState<Record<string, string>>({});
  const make = useMutation({
    mutationFn: () => send("POST", `shelves/${key}/${where}`, Object.fromEntries(fields.map(([id, , start]) => [id, values[id] ?? start]))),
    onSuccess: async () => {
      dialog.current?.close();
      setValues({});
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant={primary ? "contained" : "outlined"} onClick={() => dialog.current?.showModal()}>Make a {what}</Button>
      <dialog ref={dialog} aria-label={`Make a ${what}`}>
        <form onSubmit={(e) => { e.preventDefault(); make.mutate(); }}>
          <h2>Make a {what}</h2>
          {fields.map(([id, label, start]) => (
            <div key={id}>
              <label htmlFor={`${what}-${id}`}>{label}</label>
              <input id={`${what}-${id}`} className="inp" required={id === "name"} value={values[id] ?? start} onChange={(e) => setValues({ ...values, [id]: e.target.value })} />
            </div>
          ))}
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.current?.close()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={make.isPending}>Make the {what}</Button>
          </div>
        </form>
      </dialog>
    </>
  );
}
