/** What was just done, with the way back where there is one; stays in sight until it is undone, closed, or replaced. */
import { Snackbar, SnackbarContent } from "@mui/material";
import { useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useCallback, useContext, useState } from "react";
import { Link } from "react-router";
import { answer, api, ProblemError } from "../api/client";
import { TextAct } from "../parts/Acts";

interface Act {
  said: ReactNode;
  /** Where it can be read. */
  to?: string;
  undo?: () => Promise<unknown>;
}

const Say = createContext<(act: Act) => void>(() => undefined);

/** Say what was done, once it is done. */
export function useDone(): (act: Act) => void {
  return useContext(Say);
}

/** Undo a commit by a new one on the branch it was made on. */
export function undoCommit(shelf: string, branch: string, commit: string): () => Promise<unknown> {
  return () => answer(api.POST("/shelves/{shelf}/commits/{uid}/undo", { params: { path: { shelf, uid: commit } }, body: { branch } }));
}

export function DoneProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [act, setAct] = useState<Act | null>(null);
  const [busy, setBusy] = useState(false);
  const say = useCallback((next: Act) => setAct(next), []);
  const undo = async (wanted: () => Promise<unknown>) => {
    setBusy(true);
    try {
      await wanted();
      setAct({ said: "Undone." });
    } catch (error) {
      const why = error instanceof ProblemError ? `${error.problem.detail} ${error.problem.hint ?? ""}` : String(error);
      setAct({ said: `It was not undone: ${why}` });
    } finally {
      setBusy(false);
      await queries.invalidateQueries();
    }
  };
  const back = act?.undo;
  const acts = (
    <>
      {act?.to && <Link to={act.to}>See it</Link>}
      {back && (
        <TextAct disabled={busy} onClick={() => void undo(back)}>
          Undo
        </TextAct>
      )}
      <TextAct onClick={() => setAct(null)}>Close</TextAct>
    </>
  );
  return (
    <Say.Provider value={say}>
      {children}
      <Snackbar open={act !== null} anchorOrigin={{ vertical: "bottom", horizontal: "left" }} className="done">
        <SnackbarContent role="status" message={act?.said} action={acts} />
      </Snackbar>
    </Say.Provider>
  );
}
