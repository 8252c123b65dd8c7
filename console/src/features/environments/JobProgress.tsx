import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { answer, api, problemOf } from "../../api/client";
import { ended, job, type Rehearsal } from "../../api/queries";
import { ProblemBox } from "../../shell/states";
import { Steps } from "./RehearsalView";

/** A job's progress with numbers and cancel; it goes on if the page is left. */
export function JobProgress({ uid, onDone }: { uid: string; onDone: () => void }) {
  const found = useQuery(job(uid));
  const box = useRef<HTMLDivElement>(null);
  const known = found.data !== undefined;
  useEffect(() => {
    if (known) box.current?.scrollIntoView({ block: "nearest" });
  }, [known]);
  const state = found.data?.state;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    if (ended(found.data)) onDone();
    // onDone changes at every render of the page; only the job's end counts
  }, [state]);
  if (!found.data) return null;
  const j = found.data;
  const share = j.total ? Math.round((100 * j.done) / j.total) : state === "done" ? 100 : 0;
  if (j.state === "failed" || j.state === "cancelled") return <ProblemBox error={problemOf(j)} />;
  const result = (j.result ?? {}) as {
    number?: number;
    verified?: number;
    took_seconds?: number;
    counts?: Record<string, number>;
    steps?: Rehearsal["steps"];
  };
  const steps = result.steps ?? [];
  return (
    <>
      <div ref={box} className="sheet pad line1" role="status" aria-label="Progress of the promotion">
        {j.state === "done" ? (
          <span>
            <b>Deployment {result.number} is done.</b> {result.verified} artifacts read back and verified in{" "}
            {(result.took_seconds ?? 0).toFixed(1)} s: {result.counts?.added} added, {result.counts?.changed} changed,{" "}
            {result.counts?.removed} removed.
          </span>
        ) : (
          <>
            <span>{j.state === "waiting" ? "Queued" : `Deploying ${j.done} of ${j.total}`}</span>
            <span className="barjob">
              <i style={{ width: `${share}%` }} />
            </span>
            <span className="mut">{j.note}</span>
            <Button onClick={() => void answer(api.POST("/jobs/{uid}/cancel", { params: { path: { uid } } }))}>Cancel</Button>
          </>
        )}
      </div>
      {steps.length > 0 && (
        <section className="sheet" aria-label="What was done there">
          <Steps steps={steps} title="What was done there" />
        </section>
      )}
    </>
  );
}
