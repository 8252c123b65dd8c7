import { Breadcrumbs } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { everyArtifact, type Listed, session, shelf, summary } from "../../api/queries";
import { count, group, size } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Field } from "../../parts/Field";
import { later } from "../../parts/later";
import { Page, useShelfKey } from "../../shell/Page";
import { isReadOnly, RefChooser } from "../../shell/RefChooser";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { usePending } from "../pending/pending";
import { NewHere } from "../start/NewHere";
import { ArtifactTable } from "./ArtifactTable";
import { Kinds, Narrow } from "./Filters";
import { above, sinceDay, WHEN } from "./folders";
import { csvOf } from "./model";
import { Upload } from "./Upload";
import { useArtifacts } from "./useArtifacts";

const Folders = later(() => import("./Folders"), <div className="sheet folders" />);
const EFFECTS = ["breaks", "alters", "cosmetic"];
const STATES: [string, string][] = [
  ["edited", "edited by you"],
  ["same", "as committed"],
];
const TIMES = Object.entries(WHEN).map(([id, [name]]): [string, string] => [id, name]);
const NONE: string[] = [];
/** A tree of one folder says nothing a path does not. */
const FEWEST_FOLDERS = 2;

export function ShelfPage() {
  const key = useShelfKey();
  const go = useNavigate();
  const info = useQuery(shelf(key));
  const main = info.data?.main_branch ?? "main";
  const [at, setAt] = useParam("ref", main);
  const [kind, setKind] = useParam("kind");
  const [sort, setSort] = useParam("sort", "-when");
  const [effect, setEffect] = useParam("effect");
  const [by, setBy] = useParam("by");
  const [folder, setFolder] = useParam("folder");
  const [label, setLabel] = useParam("label");
  const [changed, setChanged] = useParam("changed");
  const [draft, setDraft] = useParam("state");
  const [typed, setTyped] = useState("");
  const { pending } = usePending(key);
  const mine = useMemo(() => new Map(pending.filter((p) => p.branch === at).map((p) => [p.path, p.state])), [pending, at]);
  const listed: Listed = {
    words: typed.trim() || undefined,
    kind: kind || undefined,
    by: by || undefined,
    effect: effect || undefined,
    folder: folder || undefined,
    label: label || undefined,
    since: sinceDay(changed, new Date()) || undefined,
    state: draft || undefined,
    sort,
  };
  const narrowed = Boolean(listed.words || kind || by || effect || label || changed || draft);
  const { first: found, total, row, see } = useArtifacts(key, at, listed);
  const state = useQuery(summary(key, at));
  const all = state.data?.total ?? 0;
  const folders = useMemo(() => (state.data?.folders ?? []).filter((one) => one.folder), [state.data]);
  const hasTree = folders.length >= FEWEST_FOLDERS;
  const say = (
    <>
      <i>at</i>
      <RefChooser shelf={key} value={at} label="State shown" onChoose={setAt} />
    </>
  );
  const raw = useQuery(session()).data?.raw_csv ?? false;
  const save = async () => {
    const rows = await everyArtifact(key, at, listed);
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([csvOf(rows, raw)], { type: "text/csv" }));
    link.download = `${key}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <Page page="artifacts" title={`${info.data?.name ?? key} at ${at}`} at={at} say={say} tall>
      <h1 className="sr">Artifacts at {at}</h1>
      {info.data?.role && <NewHere shelf={key} role={info.data.role} />}
      <div className="line1">
        <Field
          type="search"
          placeholder="Search names and last commit"
          aria-label="Narrow the list"
          width={200}
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <Kinds kinds={state.data?.kinds ?? []} chosen={kind} onChoose={setKind} />
      </div>
      <div className="line1">
        {hasTree && (
          <span className="onlysmall">
            <Narrow label="Folder" value={folder} onChoose={setFolder} options={folders.map((one) => one.folder)} />
          </span>
        )}
        <Narrow label="State" value={draft} onChoose={setDraft} options={mine.size > 0 ? STATES : NONE} />
        <Narrow label="Effect" value={effect} onChoose={setEffect} options={EFFECTS} />
        <Narrow label="Who" value={by} onChoose={setBy} options={state.data?.authors ?? NONE} />
        <Narrow label="Label" value={label} onChoose={setLabel} options={state.data?.labels ?? NONE} />
        <Narrow label="Changed" value={changed} onChoose={setChanged} options={TIMES} />
        <span className="end">
          <TextAct onClick={() => void save()}>Save as CSV</TextAct>{" "}
          {all > 0 && (
            <a
              className="textact"
              href={`/api/v1/shelves/${key}/zip?${new URLSearchParams(folder ? { ref: at, folder } : { ref: at })}`}
              download
            >
              {zipName(folder, narrowed)}
            </a>
          )}
          <Link className="textact" to={`/s/${key}/in-place?${new URLSearchParams({ ref: at })}`}>
            Data in place
          </Link>
          {!isReadOnly(at) && <Upload shelf={key} branch={at} commit={found.data?.commit ?? null} />}
        </span>
      </div>
      {found.isPending && <Loading what="Reading the artifacts" />}
      {found.isError && <ProblemBox error={found.error} />}
      {state.data && all === 0 && (
        <Empty>
          {info.data?.role === "reader" ? (
            <>
              {main} has no artifacts {isReadOnly(at) ? "at this moment" : "yet"}. You may look, compare and download here; authors, keepers
              and owners of the shelf bring in files. Who they are stands under <b>People</b>.
            </>
          ) : (
            <>
              This shelf has a {main} branch and no artifacts {isReadOnly(at) ? "at this moment" : "yet"}. Bring in files with{" "}
              <b>Add files</b>, or a folder with <span className="mono">everyshelf take {key}</span> and{" "}
              <span className="mono">everyshelf commit</span>. The key <kbd>?</kbd> explains the words of each page.
            </>
          )}
        </Empty>
      )}
      {all > 0 && found.data && (
        <>
          <div className={hasTree ? "withfolders" : undefined}>
            {hasTree && (
              <Folders
                folders={folders}
                more={(state.data?.folder_count ?? 0) - (state.data?.folders.length ?? 0)}
                total={all}
                chosen={folder}
                onChoose={setFolder}
              />
            )}
            <ArtifactTable
              total={total}
              row={row}
              onRange={see}
              sort={sort}
              onSort={setSort}
              folder={folder}
              edited={mine}
              href={(a) => `/s/${key}/artifact?${new URLSearchParams({ path: a.path, ref: at })}`}
              onOpen={(to) => void go(to)}
            />
          </div>
          <p className="foot">
            <span>{total === all ? count(all, "artifact") : `${group(total)} of ${count(all, "artifact")}`}</span>
            {folder && <Trail folder={folder} onChoose={setFolder} />}
            <span>{size(found.data.bytes ?? 0)}</span>
            {info.data && <span>{count(info.data.commits, "commit")}</span>}
            <span style={{ marginLeft: "auto" }}>
              <kbd>↑</kbd> <kbd>↓</kbd> row, <kbd>Enter</kbd> open
            </span>
          </p>
        </>
      )}
    </Page>
  );
}

/** Where one is: each folder on the way leads there. */
function Trail({ folder, onChoose }: { folder: string; onChoose: (folder: string) => void }) {
  const way = above(folder);
  return (
    <Breadcrumbs aria-label="Folder" sx={{ fontSize: 13 }}>
      <TextAct onClick={() => onChoose("")}>All folders</TextAct>
      {way.slice(0, -1).map((path) => (
        <TextAct key={path} onClick={() => onChoose(path)}>
          {path.slice(path.lastIndexOf("/") + 1)}
        </TextAct>
      ))}
      <span>{folder.slice(folder.lastIndexOf("/") + 1)}</span>
    </Breadcrumbs>
  );
}

/** The zip is of a folder or of everything, whatever else the list is narrowed to: its name says which. */
function zipName(folder: string, narrowed: boolean): string {
  const what = [narrowed && "all", narrowed && folder && "of", folder].filter(Boolean);
  return ["Download", ...what, "as zip"].join(" ");
}
