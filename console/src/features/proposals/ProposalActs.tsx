/** Merging, closing, opening again. */
import { Button } from "@mui/material";
import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { ProblemError } from "../../api/client";
import { count } from "../../marks/words";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import type { Act } from "./act";
import type { Proposal } from "./queries";

export function ProposalActs({ p, act }: { p: Proposal; act: Act }) {
  const key = useShelfKey();
  const go = useNavigate();
  const queries = useQueryClient();
  const merging = useRef<HTMLDialogElement>(null);
  const closing = useRef<HTMLDialogElement>(null);
  const [drop, setDrop] = useState(p.drop);
  const [anyway, setAnyway] = useState("");
  const [why, setWhy] = useState("");
  const judged = p.holds.filter((h) => h.what !== "conflicts" && h.what !== "branch");
  const conflicts = p.holds.some((h) => h.what === "conflicts");
  const gone = p.holds.some((h) => h.what === "branch");
  const merge = () =>
    act.mutate(
      { method: "POST", path: "/merge", body: { drop, anyway } },
      {
        onSuccess: () => { merging.current?.close(); void queries.invalidateQueries({ queryKey: ["shelf", key] }); },
        onError: (error) => {
          const waiting = error instanceof ProblemError ? error.problem.merge : undefined;
          if (waiting) void go(`/s/${key}/settle/${waiting}`);
        },
      },
    );
  if (p.state === "merged") return <span className="end"><span className="readonly">merged</span></span>;
  if (p.state === "closed") return <span className="end"><span className="readonly">closed</span>{p.may_change && <Button variant="outlined" onClick={() => act.mutate({ method: "PATCH", path: "", body: { state: "open" } })}>Open it again</Button>}</span>;
  return (
    <span className="end">
      {p.may_change && <Button variant="outlined" onClick={() => closing.current?.showModal()}>Close without merging</Button>}
      {p.may_merge && !gone && <Button variant="contained" onClick={() => { act.reset(); merging.current?.showModal(); }}>{conflicts ? "Settle and merge" : `Merge into ${p.target}`}</Button>}
      <dialog ref={merging} aria-label="Merge the proposal">
        <form onSubmit={(e) => { e.preventDefault(); merge(); }}>
          <h2>{conflicts ? `${count(p.conflicts.length, "conflict")} to settle first` : `Merge ${p.source} into ${p.target}`}</h2>
          <p className="sec sm">{conflicts ? "They are kept on the server, so that settling can be interrupted and shared; when all are settled, the merge is committed." : "One commit brings everything, in one act."}</p>
          <label><input type="checkbox" checked={drop} onChange={(e) => setDrop(e.target.checked)} /> Drop {p.source} in the same act</label>
          {judged.length > 0 && (
            <>
              <ul className="holds">{judged.map((h) => <li key={h.said}>{h.said}</li>)}</ul>
              <label htmlFor="anyway">Why it is merged anyway</label>
              <input id="anyway" className="inp" required value={anyway} onChange={(e) => setAnyway(e.target.value)} />
            </>
          )}
          {act.isError && <ProblemBox error={act.error} />}
          <div className="acts"><Button onClick={() => merging.current?.close()}>Cancel</Button><Button type="submit" variant="contained" disabled={act.isPending}>{conflicts ? "Settle them" : judged.length ? "Merge anyway" : "Merge"}</Button></div>
        </form>
      </dialog>
      <dialog ref={closing} aria-label="Close the proposal">
        <form onSubmit={(e) => { e.preventDefault(); act.mutate({ method: "PATCH", path: "", body: { state: "closed", why } }, { onSuccess: () => closing.current?.close() }); }}>
          <h2>Close without merging</h2>
          <p className="sec sm">Both branches stay, and so does everything that was said.</p>
          <label htmlFor="close-why">Why</label>
          <input id="close-why" className="inp" value={why} onChange={(e) => setWhy(e.target.value)} />
          <div className="acts"><Button onClick={() => closing.current?.close()}>Cancel</Button><Button type="submit" variant="contained">Close the proposal</Button></div>
        </form>
      </dialog>
    </span>
  );
}
