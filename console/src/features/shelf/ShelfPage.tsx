import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { artifacts, session, shelf } from "../../api/queries";
import { KindIcon } from "../../marks/spines";
import { count, size } from "../../marks/words";
import { Page, useShelfKey } from "../../shell/Page";
import { isReadOnly, RefChooser } from "../../shell/RefChooser";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { ArtifactTable } from "./ArtifactTable";
import { arranged, csvOf, kindsOf } from "./model";
import { Upload } from "./Upload";

export function ShelfPage() {
  const key = useShelfKey();
  const go = useNavigate();
  const info = useQuery(shelf(key));
  const main = info.data?.main_branch ?? "main";
  const [at, setAt] = useParam("ref", main);
  const [kind, setKind] = useParam("kind");
  const [sort, setSort] = useParam("sort", "-when");
  const [typed, setTyped] = useState("");
  const found = useQuery(artifacts(key, at));
  const rows = useMemo(() => arranged(found.data?.items ?? [], { kind, typed, sort }), [found.data, kind, typed, sort]);
  const all = found.data?.items ?? [];
  const say = (
    <>
      <i>at</i>
      <RefChooser shelf={key} value={at} label="State shown" onChoose={setAt} />
    </>
  );
  const raw = useQuery(session()).data?.raw_csv ?? false;
  const save = () => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([csvOf(rows, raw)], { type: "text/csv" }));
    link.download = `${key}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <Page page="artifacts" title={`${info.data?.name ?? key} at ${at}`} at={at} say={say} tall>
      <h1 className="sr">Artifacts at {at}</h1>
      <div className="line1">
        <input className="inp" type="search" placeholder="Search names and last commit" aria-label="Narrow the list" style={{ width: 200 }} value={typed} onChange={(e) => setTyped(e.target.value)} />
        {kindsOf(all).map(([name, n]) => (
          <button key={name} type="button" className="chip" aria-pressed={kind === name} onClick={() => setKind(kind === name ? "" : name)}>
            <KindIcon kind={name} />
            {name} <em>{n}</em>
          </button>
        ))}
        <span className="end">
          <button type="button" className="plainbtn" onClick={save}>Save as CSV</button>{" "}
          {all.length > 0 && <a className="plainbtn" href={`/api/v1/shelves/${key}/zip?${new URLSearchParams({ ref: at })}`} download>Download as zip</a>}
          {!isReadOnly(at) && <Upload shelf={key} branch={at} commit={found.data?.commit ?? null} />}
        </span>
      </div>
      {found.isPending && <Loading what="Reading the artifacts" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && all.length === 0 && (
        <Empty>
          This shelf has a {main} branch and no artifacts {isReadOnly(at) ? "at this moment" : "yet"}. Bring in files with <b>Add files</b>, or a folder with{" "}
          <span className="mono">everyshelf take {key}</span> and <span className="mono">everyshelf commit</span>.
        </Empty>
      )}
      {all.length > 0 && (
        <>
          <ArtifactTable rows={rows} sort={sort} onSort={setSort} href={(a) => `/s/${key}/artifact?${new URLSearchParams({ path: a.path, ref: at })}`} onOpen={(to) => void go(to)} />
          <p className="foot">
            <span>{rows.length === all.length ? count(all.length, "artifact") : `${rows.length} of ${count(all.length, "artifact")}`}</span>
            <span>{size(all.reduce((s, a) => s + a.size, 0))}</span>
            {info.data && <span>{count(info.data.commits, "commit")}</span>}
            <span style={{ marginLeft: "auto" }}><kbd>↑</kbd> <kbd>↓</kbd> row, <kbd>Enter</kbd> open</span>
          </p>
        </>
      )}
    </Page>
  );
}
