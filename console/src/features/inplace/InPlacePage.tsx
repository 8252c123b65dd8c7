/** Artifacts whose bytes lie outside the shelf: where each lies, whether it is still what it was, and registering more. */

import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../../api/client";
import { shelf } from "../../api/queries";
import { isRunning } from "../../marks/jobs";
import { count, size, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { Page, useShelfKey } from "../../shell/Page";
import { RefChooser } from "../../shell/RefChooser";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { Credentials } from "./Credentials";
import { type InPlace, inPlace, inPlaceKey } from "./queries";
import { Register } from "./Register";

type Found = Schemas["InPlacePage"];

/** What people have to know first: whether everything is still there. */
function sentence(found: Found) {
  if (!found.total) return "No artifact lies in place here.";
  const all = `${count(found.total, "artifact")} of ${size(found.bytes)} ${found.total === 1 ? "lies" : "lie"} in place`;
  if (found.problems)
    return (
      <>
        {all}; <b>{found.problems === 1 ? "one has changed or cannot be read" : `${found.problems} have changed or cannot be read`}</b>.
      </>
    );
  if (found.unchecked === found.total) return `${all}, not checked since.`;
  return found.unchecked ? `${all}, ${found.unchecked} not checked since, the others unchanged.` : `${all}, unchanged.`;
}

export function InPlacePage() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const [at, setAt] = useParam("ref", "main");
  const found = useInfiniteQuery(inPlace(key, at));
  const info = useQuery(shelf(key));
  const again = () => queries.invalidateQueries({ queryKey: inPlaceKey(key) });
  const check = useMutation({
    mutationFn: (fingerprint: boolean) =>
      answer(api.POST("/shelves/{shelf}/in-place/check", { params: { path: { shelf: key } }, body: { ref: at, fingerprint } })),
    onSettled: again,
  });
  const first = found.data?.pages[0];
  const rows = found.data?.pages.flatMap((page) => page.items) ?? [];
  const busy = check.isPending || isRunning(first?.job);
  const keeps = info.data?.role === "keeper" || info.data?.role === "owner";
  return (
    <Page
      page="artifacts"
      title={`Data in place at ${at}`}
      at={at}
      say={
        <>
          <i>at</i>
          <RefChooser shelf={key} value={at} label="State shown" onChoose={setAt} />
          <b className="j">data in place</b>
        </>
      }
    >
      <div className="line1">
        <h1>{first ? sentence(first) : "Data in place"}</h1>
        {keeps && (
          <span className="end">
            {rows.length > 0 && (
              <>
                <Button variant="outlined" disabled={busy} onClick={() => check.mutate(false)}>
                  Check
                </Button>
                <Button variant="outlined" disabled={busy} onClick={() => check.mutate(true)}>
                  Read and check
                </Button>
              </>
            )}
            <Register shelf={key} branch={at} busy={busy} onStart={again} />
          </span>
        )}
      </div>
      {found.isPending && <Loading what="Reading what lies in place" />}
      {found.isError && <ProblemBox error={found.error} />}
      {check.isError && <ProblemBox error={check.error} />}
      {first?.job && <Work job={first.job} />}
      {first && rows.length === 0 && (
        <Empty>
          Data that is too big to copy is registered where it lies: in a folder of the service’s machine, in a bucket, on the web. It is
          read and compared like any other, and a version whose bytes were changed says so.
        </Empty>
      )}
      {rows.length > 0 && (
        <section className="sheet scroll" aria-label="Artifacts in place">
          <Table className="links">
            <thead>
              <tr>
                <th>Artifact</th>
                <th className="num">Size</th>
                <th>Lies at</th>
                <th>Checked</th>
                <th>SHA-256</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((one) => (
                <Row key={one.path} shelf={key} at={at} one={one} />
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show more of {first?.total}</TextAct>
        </p>
      )}
      {keeps && <Credentials shelf={key} />}
    </Page>
  );
}

/** How far the newest job is, or why it failed, or what it left out. */
function Work({ job }: { job: NonNullable<Found["job"]> }) {
  if (isRunning(job))
    return (
      <p role="status" className="sec">
        {job.kind === "in-place-add" ? "Registering" : "Checking"}
        {job.total > 0 ? `: ${Math.floor((100 * job.done) / job.total)} %` : job.done > 0 ? `: ${count(job.done, "file")} listed` : ""}
        {job.note && `, ${job.note}`}
      </p>
    );
  if (job.state === "failed")
    return (
      <p role="alert" className="problem">
        <b>{job.kind === "in-place-add" ? "Registering failed." : "Checking failed."}</b> {job.problem?.detail} {job.problem?.hint}
      </p>
    );
  const left = Object.entries((job.result?.left_out ?? {}) as Record<string, string>);
  if (!left.length) return null;
  return (
    <details className="sec">
      <summary>{count(left.length + Number(job.result?.more_left_out ?? 0), "file")} left out when data was last registered</summary>
      <ul className="plain">
        {left.map(([name, why]) => (
          <li key={name}>
            <span className="mono">{name}</span>: {why}
          </li>
        ))}
      </ul>
    </details>
  );
}

function Row({ shelf, at, one }: { shelf: string; at: string; one: InPlace }) {
  return (
    <>
      <tr>
        <td>
          <Link to={`/s/${shelf}/artifact?${new URLSearchParams({ path: one.path, ref: at })}`}>{one.path}</Link>
        </td>
        <td className="num">{size(one.size)}</td>
        <td className="mono wrap">{one.address}</td>
        <td title={one.checked ?? ""}>
          {one.problem ? <b>‖ {one.checked && when(one.checked)}</b> : one.checked ? `✓ ${when(one.checked)}` : "not yet"}
        </td>
        <td className="mono sec" title={one.sha256}>
          {one.sha256 ? one.sha256.slice(0, 12) : "not read"}
        </td>
      </tr>
      {one.problem && (
        <tr className="why">
          <td colSpan={5}>
            <b>{one.problem}.</b>
          </td>
        </tr>
      )}
    </>
  );
}
