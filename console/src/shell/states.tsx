/** The four states of every view: loading, empty, error with code and next step, content. */
import { Alert, Skeleton } from "@mui/material";
import { useEffect, useState } from "react";
import { ProblemError } from "../api/client";

/** Says what is read, after 0.4 s; before that the frame stands alone. */
export function Loading({ what }: { what: string }) {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), 400);
    return () => clearTimeout(timer);
  }, []);
  return (
    <div className="empty" role="status" aria-busy="true">
      {late ? `${what} …` : "\u00a0"}
      <span className="outlines" aria-hidden="true">
        {[0, 1, 2, 3, 4, 5].map((row) => (
          <Skeleton key={row} height={18} />
        ))}
      </span>
    </div>
  );
}

/** A whole page that is not there yet. */
export function PageLoading({ what }: { what: string }) {
  return (
    <main id="page">
      <h1 className="sr">{what}</h1>
      <Loading what={what} />
    </main>
  );
}

export function Empty({ children }: { children: React.ReactNode }) {
  return <div className="empty">{children}</div>;
}

/** In place: what happened, what to do; code and request number in a caption. */
export function ProblemBox({ error }: { error: unknown }) {
  const problem = error instanceof ProblemError ? error.problem : { detail: String(error), code: "console.failed" };
  return (
    <Alert className="problem" severity="error" icon={false}>
      <p>
        <b>{problem.detail.charAt(0).toUpperCase() + problem.detail.slice(1)}</b>
      </p>
      {problem.errors?.map((e) => (
        <p key={e.pointer}>{`${e.pointer}: ${e.detail}`}</p>
      ))}
      {problem.conflicts && (
        <ul>
          {problem.conflicts.map((c) => (
            <li key={c.path}>{c.path}</li>
          ))}
        </ul>
      )}
      {problem.hint && <p>{problem.hint}</p>}
      <p className="cap">
        {problem.code}
        {problem.request ? `, request ${problem.request}` : ""}
      </p>
    </Alert>
  );
}
