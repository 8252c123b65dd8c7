/** A comparison a job is working out: how long it has been at it, and a way to give up; the page goes on by itself. */
import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { answer, api, problemOf } from "../../api/client";
import { ended, job } from "../../api/queries";
import { ProblemBox } from "../../shell/states";

export function PendingJob({ uid, onDone }: { uid: string; onDone: () => void }) {
  const found = useQuery(job(uid));
  const state = found.data?.state;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    if (state === "done") onDone();
    // onDone changes at every render of the page; only the job's end counts
  }, [state]);
  if (!found.data) return null;
  if (ended(found.data) && state !== "done") return <ProblemBox error={problemOf(found.data)} />;
  return (
    <div className="sheet pad line1" role="status" aria-label="Progress of the comparison">
      <span>{state === "waiting" ? "Waiting to be compared" : "Being compared; large tables take a while"}</span>
      <span className="mut">{found.data.note}</span>
      <Button onClick={() => void answer(api.POST("/jobs/{uid}/cancel", { params: { path: { uid } } }))}>Cancel</Button>
    </div>
  );
}
