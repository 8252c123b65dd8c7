/** Backups of the installation, for administrators: whether the newest is as recent as it should be, and all of them. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";
import { isAtWork } from "../../marks/jobs";
import { count, size, when } from "../../marks/words";
import { Table } from "../../parts/Table";
import { Loading, ProblemBox } from "../../shell/states";
import { isLate } from "./late";

const KEY = ["backups"];
const LOOK_AGAIN_MS = 1500;

export function Backups() {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: KEY,
    queryFn: () => answer(api.GET("/backups")),
    refetchInterval: (query) => (isAtWork(query.state.data) ? LOOK_AGAIN_MS : false),
  });
  const make = useMutation({
    mutationFn: () => answer(api.POST("/backups")),
    onSettled: () => queries.invalidateQueries({ queryKey: KEY }),
  });
  if (found.isPending) return <Loading what="Reading the backups" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const { folder, hours, keep, moments, unreadable, problem, job } = found.data;
  const newest = moments.at(-1);
  const busy = isAtWork(found.data) || make.isPending;
  return (
    <section aria-label="Backups">
      <div className="line1" style={{ marginTop: 20 }}>
        <h2 style={{ margin: 0 }}>{sentence(folder, newest, hours)}</h2>
        {folder && (
          <span className="end">
            <Button variant="outlined" disabled={busy} onClick={() => make.mutate()}>
              {busy ? "Backing up" : "Back up now"}
            </Button>
          </span>
        )}
      </div>
      {make.isError && <ProblemBox error={make.error} />}
      {!folder ? (
        <p className="sec">
          Set <code>EVERYSHELF_BACKUP</code> to a folder on another disk, or to a bucket (<code>s3://BUCKET/PREFIX</code>), and start the
          service again; it then backs itself up every day.
        </p>
      ) : (
        <p className="sec">
          In <span className="mono">{folder}</span>
          {hours > 0 ? `, every ${hours === 1 ? "hour" : count(hours, "hour")}` : ", only when you ask"}; the newest {keep} are kept. The
          keys of secrets are not among them.
        </p>
      )}
      {busy && job && (
        <p role="status" className="sec">
          {job.total > 0 ? `${size(job.done)} of ${size(job.total)} copied` : "Waiting"}
        </p>
      )}
      {job?.state === "failed" && (
        <p role="alert" className="problem">
          <b>The last backup failed.</b> {job.problem?.detail} {job.problem?.hint}
        </p>
      )}
      {problem && (
        <p role="alert" className="problem">
          <b>The backups cannot be listed.</b> {problem}
        </p>
      )}
      {unreadable.length > 0 && (
        <p role="alert" className="problem">
          <b>{count(unreadable.length, "backup")} cannot be read:</b> {unreadable.join(", ")}. The bytes are kept.
        </p>
      )}
      {moments.length > 0 && (
        <div className="sheet scroll" role="group" aria-label="All backups">
          <Table>
            <thead>
              <tr>
                <th>Backup</th>
                <th>Made</th>
                <th className="num">To restore</th>
                <th className="num">Added</th>
                <th>State</th>
              </tr>
            </thead>
            <tbody>
              {[...moments].reverse().map((one) => (
                <tr key={one.name}>
                  <td className="mono">{one.name}</td>
                  <td>{when(one.made)}</td>
                  <td className="num">{size(one.size)}</td>
                  <td className="num">{size(one.added)}</td>
                  <td>{one.damage.length === 0 ? "✓ read back" : `‖ ${count(one.damage.length, "range")} damaged before it was copied`}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </section>
  );
}

function sentence(folder: string, newest: Schemas["BackupMoment"] | undefined, hours: number): string {
  if (!folder) return "This installation is not backed up.";
  if (!newest) return "No backup was made yet.";
  return isLate(newest.made, hours, new Date())
    ? `The newest backup is older than it should be: ${when(newest.made)}.`
    : `Backed up ${when(newest.made)}.`;
}
