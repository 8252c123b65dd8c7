/** One commit undone by a new one, while what came later stays; what that does is said before it is done. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useId, useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, ProblemError, type Schemas } from "../../api/client";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { undoCommit, useDone } from "../../shell/Done";
import { ProblemBox } from "../../shell/states";
import { undoneIn } from "./words";

export function Undo({ shelf, look, summary: usual }: { shelf: string; look: Schemas["Undoing"]; summary: string }) {
  const go = useNavigate();
  const queries = useQueryClient();
  const dialog = useSheet();
  const id = useId();
  const [summary, setSummary] = useState("");
  const done = useDone();
  const undo = useMutation({
    mutationFn: async () => {
      const branch = look.allowed
        ? look.branch
        : (
            await answer(
              api.POST("/shelves/{shelf}/branches", {
                params: { path: { shelf } },
                body: {
                  name: "",
                  start: look.branch,
                  note: `undo ${look.commit.slice(0, 8)}`,
                },
              }),
            )
          ).name;
      const made = await answer(
        api.POST("/shelves/{shelf}/commits/{uid}/undo", {
          params: { path: { shelf, uid: look.commit } },
          body: {
            branch,
            summary,
          },
        }),
      );
      return { ...made, branch };
    },
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ["shelf", shelf] });
      dialog.hide();
      if (look.allowed) done({ said: `“${usual}” is undone.`, undo: undoCommit(shelf, made.branch, made.commit) });
      await go(
        look.allowed ? `/s/${shelf}/commit/${made.commit}` : `/s/${shelf}/proposals?${new URLSearchParams({ propose: made.branch })}`,
      );
    },
    onError: (error) => {
      if (!(error instanceof ProblemError) || error.problem.code !== "merge.conflict" || !error.problem.merge) return;
      dialog.hide();
      void queries.invalidateQueries({ queryKey: ["shelf", shelf] });
      void go(`/s/${shelf}/settle/${error.problem.merge}`);
    },
  });
  if (look.back_count + look.combined_count + look.open_count === 0) return null;
  return (
    <>
      <Button
        variant="outlined"
        onClick={() => {
          undo.reset();
          dialog.show();
        }}
      >
        Undo this commit
      </Button>
      <Sheet of={dialog} label={`Undo “${usual}”`}>
        <h2>Undo “{usual}”</h2>
        <p>{undoneIn(look)}</p>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            undo.mutate();
          }}
        >
          <div className="fieldrow">
            <Field
              id={`${id}-summary`}
              label="Summary"
              value={summary}
              placeholder={`Undo “${usual}”`}
              onChange={(e) => setSummary(e.target.value)}
            />
          </div>
          {undo.isError && <ProblemBox error={undo.error} />}
          <p className="acts">
            <Button type="submit" variant="contained" disabled={undo.isPending}>
              {look.open_count ? "Begin, and settle" : look.allowed ? "Undo" : "Undo on a branch"}
            </Button>{" "}
            <Button onClick={() => dialog.hide()}>Cancel</Button>
          </p>
        </form>
      </Sheet>
    </>
  );
}
