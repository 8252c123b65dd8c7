/** Merging, closing and reopening. */

import { Button } from "@mui/material";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { answer, api, ProblemError, type Schemas } from "../../api/client";
import { count } from "../../marks/words";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { undoCommit, useDone } from "../../shell/Done";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import type { Act } from "./act";
import type { Proposal } from "./queries";

export function ProposalActs({ p, act }: { p: Proposal; act: Act }) {
  const key = useShelfKey();
  const go = useNavigate();
  const queries = useQueryClient();
  const done = useDone();
  const merging = useSheet();
  const closing = useSheet();
  const [deleteSource, setDeleteSource] = useState(p.delete_source);
  const [anyway, setAnyway] = useState("");
  const [reason, setReason] = useState("");
  const judged = p.not_met.filter((h) => h.what !== "conflicts" && h.what !== "branch");
  const conflicts = p.not_met.some((h) => h.what === "conflicts");
  const gone = p.not_met.some((h) => h.what === "branch");
  const params = { path: { shelf: key, number: p.number } };
  const change = (body: Schemas["PatchedProposalChangeRequest"]) =>
    answer(api.PATCH("/shelves/{shelf}/proposals/{number}", { params, body }));
  const merge = () =>
    act.mutate(
      () =>
        answer(api.POST("/shelves/{shelf}/proposals/{number}/merge", { params, body: { delete_source: deleteSource, reason: anyway } })),
      {
        onSuccess: (answer) => {
          merging.hide();
          done({
            said: `Proposal ${p.number} is merged into ${p.target}.`,
            to: answer.merged ? `/s/${key}/commit/${answer.merged}` : undefined,
            undo: answer.merged ? undoCommit(key, p.target, answer.merged) : undefined,
          });
          void queries.invalidateQueries({ queryKey: ["shelf", key] });
        },
        onError: (error) => {
          const waiting = error instanceof ProblemError ? error.problem.merge : undefined;
          if (waiting) void go(`/s/${key}/settle/${waiting}`);
        },
      },
    );
  if (p.state === "merged")
    return (
      <span className="end">
        <span className="readonly">merged</span>
        {p.merged && <Link to={`/s/${key}/commit/${p.merged}`}>Its commit</Link>}
      </span>
    );
  if (p.state === "closed")
    return (
      <span className="end">
        <span className="readonly">closed</span>
        {p.may_change && (
          <Button variant="outlined" onClick={() => act.mutate(() => change({ state: "open" }))}>
            Reopen
          </Button>
        )}
      </span>
    );
  return (
    <span className="end">
      {p.may_change && (
        <Button variant="outlined" onClick={() => closing.show()}>
          Close without merging
        </Button>
      )}
      {p.may_merge && !gone && (
        <Button
          variant="contained"
          onClick={() => {
            act.reset();
            merging.show();
          }}
        >
          {conflicts ? "Settle and merge" : `Merge into ${p.target}`}
        </Button>
      )}
      <Sheet of={merging} label="Merge the proposal">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            merge();
          }}
        >
          <h2>{conflicts ? `${count(p.conflicts.length, "conflict")} to settle first` : `Merge ${p.source} into ${p.target}`}</h2>
          <p className="sec sm">
            {conflicts
              ? "They are kept on the server, so that settling can be interrupted and shared; when all are settled, the merge is committed."
              : "All changes are merged in a single commit."}
          </p>
          <CheckField checked={deleteSource} onChange={(e) => setDeleteSource(e.target.checked)}>
            Delete {p.source} after merging
          </CheckField>
          {judged.length > 0 && (
            <>
              <ul className="holds">
                {judged.map((h) => (
                  <li key={h.message}>{h.message}</li>
                ))}
              </ul>
              <Field id="anyway" label="Reason for merging anyway" required value={anyway} onChange={(e) => setAnyway(e.target.value)} />
            </>
          )}
          {act.isError && <ProblemBox error={act.error} />}
          <div className="acts">
            <Button onClick={() => merging.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={act.isPending}>
              {conflicts ? "Settle them" : judged.length ? "Merge anyway" : "Merge"}
            </Button>
          </div>
        </form>
      </Sheet>
      <Sheet of={closing} label="Close the proposal">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            act.mutate(() => change({ state: "closed", reason }), {
              onSuccess: () => {
                closing.hide();
                done({
                  said: `Proposal ${p.number} is closed.`,
                  undo: () => change({ state: "open" }),
                });
              },
            });
          }}
        >
          <h2>Close without merging</h2>
          <p className="sec sm">Both branches and the whole discussion are kept.</p>
          <Field id="close-why" label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} />
          <div className="acts">
            <Button onClick={() => closing.hide()}>Cancel</Button>
            <Button type="submit" variant="contained">
              Close the proposal
            </Button>
          </div>
        </form>
      </Sheet>
    </span>
  );
}
