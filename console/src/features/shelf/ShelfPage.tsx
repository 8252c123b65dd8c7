import { TextField } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { memo, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { everyArtifact, type Listed, session, shelf, summary } from "../../api/queries";
import { KindIcon } from "../../marks/spines";
import { count, group, size } from "../../marks/words";
import { RowAct, TextAct } from "../../parts/Acts";
import { Field } from "../../parts/Field";
import { Page, useShelfKey } from "../../shell/Page";
import { isReadOnly, RefChooser } from "../../shell/RefChooser";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { ArtifactTable } from "./ArtifactTable";
import { csvOf } from "./model";
import { Upload } from "./Upload";
import { useArtifacts } from "./useArtifacts";

const EFFECTS = ["breaks", "alters", "cosmetic"];
const NONE: string[] = [];

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
  const [typed, setTyped] = useState("");
  const listed: Listed = {
    words: typed.trim() || undefined,
    kind: kind || undefined,
    by: by || undefined,
    effect: effect || undefined,
    folder: folder || undefined,
    sort,
  };
  const { first: found, total, row, see } = useArtifacts(key, at, listed);
  const state = useQuery(summary(key, at));
  const all = state.data?.total ?? 0;
  const folders = useMemo(() => (state.data?.folders ?? []).filter((one) => one.folder).map((one) => one.folder), [state.data]);
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
      <div className="line1">
        <Field
          type="search"
          placeholder="Search names and last commit"
          aria-label="Narrow the list"
          width={200}
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        {state.data?.kinds.map((one) => (
          <RowAct
            key={one.kind}
            className="chip"
            aria-pressed={kind === one.kind}
            onClick={() => setKind(kind === one.kind ? "" : one.kind)}
          >
            <KindIcon kind={one.kind} />
            {one.kind} <em>{one.count}</em>
          </RowAct>
        ))}
        <Narrow label="Folder" value={folder} onChoose={setFolder} options={folders} />
        <Narrow label="Who" value={by} onChoose={setBy} options={state.data?.authors ?? NONE} />
        <Narrow label="Effect" value={effect} onChoose={setEffect} options={EFFECTS} />
        <span className="end">
          <TextAct onClick={() => void save()}>Save as CSV</TextAct>{" "}
          {all > 0 && (
            <a className="textact" href={`/api/v1/shelves/${key}/zip?${new URLSearchParams({ ref: at })}`} download>
              Download as zip
            </a>
          )}
          {!isReadOnly(at) && <Upload shelf={key} branch={at} commit={found.data?.commit ?? null} />}
        </span>
      </div>
      {found.isPending && <Loading what="Reading the artifacts" />}
      {found.isError && <ProblemBox error={found.error} />}
      {state.data && all === 0 && (
        <Empty>
          This shelf has a {main} branch and no artifacts {isReadOnly(at) ? "at this moment" : "yet"}. Bring in files with <b>Add files</b>,
          or a folder with <span className="mono">everyshelf take {key}</span> and <span className="mono">everyshelf commit</span>.
        </Empty>
      )}
      {all > 0 && found.data && (
        <>
          <ArtifactTable
            total={total}
            row={row}
            onRange={see}
            sort={sort}
            onSort={setSort}
            href={(a) => `/s/${key}/artifact?${new URLSearchParams({ path: a.path, ref: at })}`}
            onOpen={(to) => void go(to)}
          />
          <p className="foot">
            <span>{total === all ? count(all, "artifact") : `${group(total)} of ${count(all, "artifact")}`}</span>
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

/** One filter: any, or one of what there is. */
const Narrow = memo(function Narrow({
  label,
  value,
  options,
  onChoose,
}: {
  label: string;
  value: string;
  options: string[];
  onChoose: (value: string) => void;
}) {
  if (options.length < 2 && !value) return null;
  return (
    <TextField
      select
      size="small"
      label={label}
      value={value}
      onChange={(e) => onChoose(e.target.value)}
      slotProps={{ select: { native: true }, inputLabel: { shrink: true } }}
      sx={{ minWidth: 110, maxWidth: 220, "& .MuiInputBase-root": { height: 30, fontSize: 14 } }}
    >
      <option value="">any</option>
      {options.map((one) => (
        <option key={one} value={one}>
          {one}
        </option>
      ))}
    </TextField>
  );
});
