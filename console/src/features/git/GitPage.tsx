/** The shelf as a Git repository: its address, and each commit under both of its ids. */

import { Button } from "@mui/material";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { CopyButton } from "../../parts/Copying";
import { Table } from "../../parts/Table";
import { Page, useMe, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { Links } from "./Links";
import { MakeLink } from "./MakeLink";
import { type GitLink, gitCommits, gitLinks } from "./queries";

/** What people have to know first: which links need a person. */
function sentence(links: GitLink[] | undefined) {
  if (!links?.length) return "Clone this shelf, and push to it, with any Git client.";
  const open = links.filter((link) => link.lines.some((line) => line.merge) || link.state === "refused" || link.state === "diverged");
  const all = count(links.length, "link");
  if (!open.length) return `${all}: nothing needs you.`;
  const waits = open[0]?.lines.some((line) => line.merge) ? "with something to settle" : "for the reason below it";
  return (
    <>
      {all}:{" "}
      <b>
        {open[0]?.name} {open[0]?.state === "refused" ? "is refused" : "has diverged"}
      </b>
      , {waits}
      {links.length > open.length ? "; the others need nothing from you" : ""}.
    </>
  );
}

export function GitPage() {
  const key = useShelfKey();
  const found = useInfiniteQuery(gitCommits(key));
  const links = useQuery(gitLinks(key));
  const pages = found.data?.pages ?? [];
  const rows = pages.flatMap((page) => page.items);
  return (
    <Page
      page="git"
      title="Git"
      at="main"
      say={
        <>
          <i className="j">in</i> <b>Git</b>
        </>
      }
    >
      <div className="line1">
        <h1>{sentence(links.data)}</h1>
        <span className="end">
          <MakeLink shelf={key} />
        </span>
      </div>
      {found.isPending && <Loading what="Reading the commits" />}
      {found.isError && <ProblemBox error={found.error} />}
      {pages[0] && <Clone path={pages[0].address} />}
      <NetworkFolder shelf={key} />
      <Links shelf={key} />
      {pages[0] && rows.length === 0 && <Empty>No commit yet. The first one, made here or pushed, starts the history.</Empty>}
      {rows.length > 0 && (
        <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Commits on both sides">
          <div className="ph">
            <h2 className="h3">Commits on both sides</h2>
            <span className="cap">recorded last first</span>
          </div>
          <Table>
            <thead>
              <tr>
                <th>When</th>
                <th>Made with</th>
                <th>Commit</th>
                <th>Who</th>
                <th>On the shelf</th>
                <th>In Git</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <Row key={row.commit} shelf={key} row={row} />
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show older ones</TextAct>{" "}
          <span className="cap">
            {count(rows.length, "commit")} of {pages[0]?.total} shown
          </span>
        </p>
      )}
    </Page>
  );
}

/** The address for Git, to be copied. */
function Clone({ path }: { path: string }) {
  const me = useMe();
  const address = `${window.location.protocol}//${me ? `${encodeURIComponent(me)}@` : ""}${window.location.host}${path}`;
  return (
    <AddressRow what="This shelf is a Git repository" address={address} label="Clone address">
      <Button variant="outlined" component={Link} to="/tokens">
        Make a token
      </Button>
    </AddressRow>
  );
}

/** The address for file managers, to be copied. */
function NetworkFolder({ shelf }: { shelf: string }) {
  const address = `${window.location.protocol}//${window.location.host}/dav/${encodeURIComponent(shelf)}/`;
  return <AddressRow what="This shelf is a network folder" address={address} label="Folder address" />;
}

function AddressRow({ what, address, label, children }: { what: string; address: string; label: string; children?: React.ReactNode }) {
  return (
    <section className="sheet clone" aria-label={label}>
      <div>
        <b>{what}</b>
        <span className="cap">Your name, and a token as password</span>
      </div>
      <code className="mono" title={address}>
        {address}
      </code>
      <CopyButton variant="outlined" text={address}>
        Copy address
      </CopyButton>
      {children}
    </section>
  );
}

function Row({ shelf, row }: { shelf: string; row: Schemas["GitCommit"] }) {
  const kept = row.kept ?? [];
  return (
    <tr>
      <td title={row.recorded}>{when(row.recorded)}</td>
      <td>{row.came ? "Git" : "Every Shelf"}</td>
      <td className="wrap">
        <b>{row.summary}</b>
        {kept.length > 0 && (
          <span className="cap" style={{ display: "block" }}>
            Kept for Git: {kept.join("; ")}
          </span>
        )}
      </td>
      <td>{row.author}</td>
      <td>
        <Link className="mono" to={`/s/${shelf}/commit/${row.commit}`}>
          {row.commit.slice(0, 8)}
        </Link>
      </td>
      <td className="mono" title={row.git ?? "It gets its id when Git first asks for the shelf."}>
        {row.git ? row.git.slice(0, 8) : "not yet"}
      </td>
    </tr>
  );
}
