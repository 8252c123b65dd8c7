/** How far a job is that an answer waits for, such as a merge of many artifacts; the answer comes by itself. */
import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { answer, api, WORKED_OUT } from "../api/client";
import { job } from "../api/queries";

export function WorkedOut() {
  const [uid, setUid] = useState<string | null>(null);
  useEffect(() => {
    const told = (event: Event) => setUid((event as CustomEvent<string | null>).detail);
    window.addEventListener(WORKED_OUT, told);
    return () => window.removeEventListener(WORKED_OUT, told);
  }, []);
  return uid ? <Shown uid={uid} /> : null;
}

function Shown({ uid }: { uid: string }) {
  const found = useQuery(job(uid)).data;
  if (!found) return null;
  const share = found.total ? Math.round((100 * found.done) / found.total) : 0;
  return (
    <div className="sheet pad line1 workedout" role="status" aria-label="Progress of the merge">
      <span>{found.state === "waiting" ? "Waiting to be merged" : `Merging ${found.done} of ${found.total}`}</span>
      <span className="barjob">
        <i style={{ width: `${share}%` }} />
      </span>
      <span className="mut">{found.note}</span>
      <Button onClick={() => void answer(api.POST("/jobs/{uid}/cancel", { params: { path: { uid } } }))}>Cancel</Button>
    </div>
  );
}
