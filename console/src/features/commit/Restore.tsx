/** A state, or an artifact as it was, restored by a new commit; what that does is said before it is done. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";
import { useNavigate } from "react-router";
import { answer, api } from "../../api/client";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { undoCommit, useDone } from "../../shell/Done";
import { ProblemBox } from "../../shell/states";

interface Given {
  shelf: string;
  branch: string;
  from: string;
  path?: string;
  label: string;
  title: string;
  does: string;
  usual: string;
}

export function Restore({ shelf, branch, from, path, label, title, does, usual }: Given) {
  const go = useNavigate();
  const queries = useQueryClient();
  const dialog = useSheet();
  const id = useId();
  const [summary, setSummary] = useState("");
  const done = useDone();
  const restore = useMutation({
    mutationFn: () =>
      answer(
        api.POST("/shelves/{shelf}/restore", { params: { path: { shelf } }, body: { branch, ref: from, path: path ?? null, summary } }),
      ),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: ["shelf", shelf] });
      dialog.hide();
      done({ said: `Restored on ${branch}.`, undo: undoCommit(shelf, branch, made.commit) });
      void go(`/s/${shelf}/commit/${made.commit}`);
    },
  });
  return (
    <>
      <Button
        variant="outlined"
        onClick={() => {
          restore.reset();
          dialog.show();
        }}
      >
        {label}
      </Button>
      <Sheet of={dialog} label={title}>
        <h2>{title}</h2>
        <p>{does}</p>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            restore.mutate();
          }}
        >
          <div className="fieldrow">
            <Field id={`${id}-summary`} label="Summary" value={summary} placeholder={usual} onChange={(e) => setSummary(e.target.value)} />
          </div>
          {restore.isError && <ProblemBox error={restore.error} />}
          <p className="acts">
            <Button type="submit" variant="contained" disabled={restore.isPending}>
              Restore
            </Button>{" "}
            <Button onClick={() => dialog.hide()}>Cancel</Button>
          </p>
        </form>
      </Sheet>
    </>
  );
}
