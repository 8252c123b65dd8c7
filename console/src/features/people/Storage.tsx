/** What the store of the installation holds, for administrators: how much all versions take, what tidying has saved, and what it will free. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api } from "../../api/client";
import { isAtWork, isRunning } from "../../marks/jobs";
import { count, size, when } from "../../marks/words";
import { Loading, ProblemBox } from "../../shell/states";
import { StorageHome } from "./StorageHome";
import { StorageUnused } from "./StorageUnused";
import { shareTaken } from "./share";

const KEY = ["storage"];
const LOOK_AGAIN_MS = 1500;

export function Storage() {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: KEY,
    queryFn: () => answer(api.GET("/storage")),
    refetchInterval: (query) => (isAtWork(query.state.data) || isRunning(query.state.data?.moving) ? LOOK_AGAIN_MS : false),
  });
  const tidy = useMutation({
    mutationFn: () => answer(api.POST("/storage/tidy")),
    onSettled: () => queries.invalidateQueries({ queryKey: KEY }),
  });
  if (found.isPending) return <Loading what="Reading what the store holds" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const held = found.data;
  const busy = isAtWork(held) || tidy.isPending;
  return (
    <section aria-label="Storage">
      <div className="line1" style={{ marginTop: 20 }}>
        <h2 style={{ margin: 0 }}>
          {held.versions === 0
            ? "Nothing is stored yet."
            : `${count(held.versions, "version")} of ${size(held.versions_bytes)} take ${size(held.stored)}.`}
        </h2>
        <span className="end">
          <Button variant="outlined" disabled={busy} onClick={() => tidy.mutate()}>
            {busy ? "Tidying" : "Tidy now"}
          </Button>
        </span>
      </div>
      {held.versions_bytes > 0 && (
        <div
          className="stored"
          role="img"
          aria-label={`${size(held.stored)} of ${size(held.versions_bytes)}`}
          style={{ "--share": `${shareTaken(held.stored, held.versions_bytes)}%` } as React.CSSProperties}
        />
      )}
      {tidy.isError && <ProblemBox error={tidy.error} />}
      <ul className="plain sec">
        <li>
          {held.deltas > 0
            ? `${count(held.deltas, "piece")} kept as what they change of another; that has saved ${size(held.saved)}.`
            : "No version is kept as what it changes of another yet."}
        </li>
        {held.waiting > 0 && <li>{size(held.waiting)} of new versions have not been looked at.</li>}
        {held.unreached > 0 && (
          <li>
            {count(held.unreached, "content")} of {size(held.unreached_bytes)} sent and never used
            {held.frees ? `; freed from ${when(held.frees)} on` : ""}. <StorageUnused />
          </li>
        )}
        <li>
          {held.tidied ? `Tidied ${when(held.tidied)}` : "Not tidied yet"}
          {held.hours > 0
            ? `, every ${held.hours === 1 ? "hour" : count(held.hours, "hour")} when there is something to do`
            : ", only when you ask"}
          .
        </li>
      </ul>
      <StorageHome held={held} asked={KEY} />
      {busy && held.job && (
        <p role="status" className="sec">
          {held.job.total > 0 ? `${held.job.note || "At work"}: ${Math.floor((100 * held.job.done) / held.job.total)} %` : "Waiting"}
        </p>
      )}
      {typeof held.job?.result?.held_back === "string" && held.job.result.held_back !== "" && (
        <p role="alert" className="problem">
          {held.job.result.held_back}
        </p>
      )}
      {held.job?.state === "failed" && (
        <p role="alert" className="problem">
          <b>The last run failed.</b> {held.job.problem?.detail} {held.job.problem?.hint}
        </p>
      )}
    </section>
  );
}
