/** The frame of every page of a shelf: address line, strip, board, content. */

import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Artifact, type Shelf, session, shelf, summary } from "../api/queries";
import { GitState } from "../features/git/GitState";
import { NewsChip } from "../features/news/NewsOnShelves";
import { usePending } from "../features/pending/pending";
import { waiting } from "../features/proposals/queries";
import { ViewsAct } from "../features/views/ViewsAct";
import { KindIcon } from "../marks/spines";
import { size, when } from "../marks/words";
import { FindLink } from "./FindKey";
import { Person } from "./Person";
import { isReadOnly } from "./RefChooser";
import { type Spine, Strip } from "./Strip";
import { PageLoading, ProblemBox } from "./states";

export function Logo() {
  return (
    <svg className="logo" viewBox="0 0 26 26" aria-hidden="true">
      <path d="M1 23.5H25" stroke="currentColor" strokeWidth="2.4" />
      <rect x="3" y="5" width="4.6" height="16" fill="currentColor" />
      <rect x="9" y="8.5" width="3.4" height="12.5" fill="none" stroke="currentColor" strokeWidth="1.5" />
      <path d="M15.2 6.6L19.4 5.2L24.2 19.8L20 21.2Z" fill="currentColor" opacity=".55" />
    </svg>
  );
}

export function useShelfKey(): string {
  return useParams().key ?? "";
}

interface Props {
  page: string;
  title: string;
  say: React.ReactNode;
  at: string;
  tall?: boolean;
  current?: string;
  children: React.ReactNode;
}

const NONE: never[] = [];
/** Pages that show one branch; the others are about the shelf. */
const SHOW_A_BRANCH = new Set(["artifacts", "history", "pending"]);

export function Page({ page, title, say, at, tall = false, current, children }: Props) {
  const key = useShelfKey();
  const go = useNavigate();
  const info = useQuery(shelf(key));
  const all = useQuery(summary(key, at));
  const { pending, saved, outOfReach } = usePending(key);
  const [shown, setShown] = useState<Spine | null>(null);
  useEffect(() => {
    document.title = `${title} · Every Shelf`;
  }, [title]);
  const marks = useMemo(
    () =>
      Object.fromEntries(
        pending.map((p) => [
          p.path,
          p.state === "gone" ? "removed" : p.state === "new" ? "added" : p.state === "moved" ? "moved" : "changed",
        ]),
      ),
    [pending],
  );
  const openArtifact = useCallback(
    (a: Artifact) => void go(`/s/${key}/artifact?${new URLSearchParams({ path: a.path, ref: at })}`),
    [go, key, at],
  );
  if (info.isPending) return <PageLoading what="Reading the shelf" />;
  if (info.isError)
    return (
      <main id="page">
        <h1 className="sr">{title}</h1>
        <ProblemBox error={info.error} />
      </main>
    );
  return (
    <>
      <header className="addr">
        <Link to="/" aria-label="All shelves" style={{ display: "flex" }}>
          <Logo />
        </Link>
        <div className="say">
          <Link className="home" to={`/s/${key}`}>
            <b>{info.data.name}</b>
          </Link>
          {say}
          {isReadOnly(at) ? <span className="readonly">read only</span> : SHOW_A_BRANCH.has(page) && <GitState branch={at} />}
          {tall && <span className="what">{info.data.description}</span>}
        </div>
        <div className="right">
          <FindLink shelf={key}>Find on this shelf</FindLink>
          <WaitingChip />
          <NewsChip shelf={key} />
          <Link to={`/s/${key}/pending`} className="draft" style={{ color: "var(--ink)", textDecoration: "none" }}>
            <b>{pending.length} pending</b>
            {outOfReach ? ", service out of reach" : saved ? `, saved ${when(saved)}` : ""}
          </Link>
          <Person />
        </div>
      </header>
      <Strip kinds={all.data?.kinds ?? NONE} low={!tall} current={current} marks={marks} onShow={setShown} onOpen={openArtifact} />
      <Board page={page} at={at} shelf={info.data} shown={shown} total={all.data?.total} />
      <main id="page">
        <h1 className="sr fallback">{title}</h1>
        {children}
      </main>
    </>
  );
}

interface BoardProps {
  page: string;
  at: string;
  shelf: Shelf;
  shown: Spine | null;
  total?: number;
}

function Board({ page, at, shelf, shown, total }: BoardProps) {
  const { key } = shelf;
  const ref = at === "main" ? "" : `?ref=${encodeURIComponent(at)}`;
  const labels: [string, string, string, number | undefined][] = [
    ["artifacts", "Artifacts", `/s/${key}${ref}`, total],
    ["history", "History", `/s/${key}/history${ref}`, undefined],
    ["compare", "Compare", `/s/${key}/compare`, undefined],
    ["query", "Query", `/s/${key}/query${ref}`, undefined],
    ["branches", "Branches and tags", `/s/${key}/branches`, shelf.branches + shelf.tags],
    ["proposals", "Proposals", `/s/${key}/proposals`, shelf.proposals],
    ["tasks", "Tasks", `/s/${key}/tasks`, undefined],
    ["experiments", "Experiments", `/s/${key}/experiments`, shelf.experiments],
    ["environments", "Environments", `/s/${key}/environments`, shelf.environments],
    ["git", "Git", `/s/${key}/git`, undefined],
    ["news", "News", `/s/${key}/news`, undefined],
    ["log", "Log", `/s/${key}/log`, undefined],
    ["people", "People", `/s/${key}/people`, undefined],
  ];
  const first = shown?.artifacts[0];
  return (
    <nav className="board" aria-label="Pages of the shelf">
      {labels.map(([id, text, to, n]) => (
        <Link key={id} to={to} className={id === page ? "on" : ""} aria-current={id === page ? "page" : undefined}>
          {text}
          {n !== undefined && <em>{n}</em>}
        </Link>
      ))}
      <div className="r">
        <ViewsAct shelf={key} />
        {first && (
          <span className="plate">
            <KindIcon kind={shown?.kind ?? "opaque"} />
            {shown && shown.more > 0 ? (
              <b>and {shown.more} more</b>
            ) : (
              <>
                <b>{first.name}</b> version {first.version}, {size(first.size)}, {when(first.recorded)} by {first.author}
              </>
            )}
          </span>
        )}
      </div>
    </nav>
  );
}

export function useMe(): string {
  return useQuery(session()).data?.person?.name ?? "";
}

/** How many tasks the signed-in person has, on all shelves; leads to the list. */
export function WaitingChip() {
  const found = useQuery(waiting());
  if (!found.data?.length) return null;
  return (
    <Link to="/" className="waits">
      <b>{found.data.length}</b> {found.data.length === 1 ? "task" : "tasks"}
    </Link>
  );
}
