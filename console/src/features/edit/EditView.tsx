/** Editing an artifact in one's draft: as text, by field, by cell. */

import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { type Artifact, artifact, outline, text } from "../../api/queries";
import { Part, Switch } from "../../parts/Acts";
import { later } from "../../parts/later";
import { useMe } from "../../shell/Page";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { usePending } from "../pending/pending";
import { type Change, keptChange, useAutosave } from "./autosave";
import { CellEditor } from "./CellEditor";
import { FieldEditor } from "./FieldEditor";
import { SavedNote } from "./SavedNote";

const TextEditor = later(() => import("./TextEditor"), <Loading what="Opening the editor" />);
const WAYS = { text: "Text", fields: "By field", cells: "By cell" } as const;
type Way = keyof typeof WAYS;

interface Props {
  shelf: string;
  path: string;
  branch: string;
  base: string | null;
}

export function EditView({ shelf, path, branch, base }: Props) {
  const ref = `draft:${branch}`;
  const queries = useQueryClient();
  const { pending, isKnown } = usePending(shelf);
  const [round, setRound] = useState(0);
  const found = useQuery({ ...artifact(shelf, path, ref), staleTime: 0, refetchOnWindowFocus: false });
  const point = pending.find((p) => p.path === path && p.branch === branch)?.point ?? 0;
  const reload = async () => {
    await queries.invalidateQueries({ queryKey: ["shelf", shelf] });
    setRound(round + 1);
  };
  if (found.isPending || !isKnown) return <Loading what="Reading your draft" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  return (
    <Editing
      key={round}
      shelf={shelf}
      path={path}
      branch={branch}
      base={base}
      artifact={found.data}
      point={point}
      onReload={() => void reload()}
    />
  );
}

interface EditingProps extends Props {
  artifact: Artifact;
  point: number;
  onReload: () => void;
}

function Editing({ shelf, path, branch, base, artifact: first, point, onReload }: EditingProps) {
  const ref = `draft:${branch}`;
  // What is edited is what was there when the editor opened; later answers must not pull it from under the cursor.
  const [start] = useState({ content: first.content, point });
  const person = useMe();
  const [whose] = useState(person); // also after the session ended
  const target = useMemo(() => ({ person: whose, shelf, branch, path, base, ...start }), [whose, shelf, branch, path, base, start]);
  const [asked, setWay] = useParam("by");
  const queries = useQueryClient();
  const still = { staleTime: Number.POSITIVE_INFINITY, refetchOnWindowFocus: false, gcTime: 0 } as const;
  const words = useQuery({
    ...text(shelf, path, ref),
    queryKey: ["edit", "text", shelf, branch, path, start.content],
    ...still,
  });
  const cells = useQuery({
    queryKey: ["edit", "cells", shelf, branch, path, start.content],
    queryFn: () => answer(api.GET("/shelves/{shelf}/artifact/cells", { params: { path: { shelf }, query: { path, ref } } })),
    enabled: first.kind === "dataset",
    ...still,
  });
  const parts = useQuery({
    ...outline(shelf, path, ref),
    queryKey: ["edit", "outline", shelf, branch, path],
    enabled: first.kind !== "dataset",
    ...still,
  });
  // Fields may follow from one another, and parts be called by them: the outline is read again with each save.
  const again = useCallback(() => queries.invalidateQueries({ queryKey: ["edit", "outline"] }), [queries]);
  const saving = useAutosave(target, again);
  const tooLong = words.data?.truncated ?? false;
  const ways: Way[] = [];
  if (words.data && !tooLong) ways.push("text");
  if ((parts.data?.parts.length ?? 0) > 0 && parts.data?.read_as === parts.data?.kind && !parts.data?.truncated) ways.push("fields");
  if ((cells.data?.columns.length ?? 0) > 0) ways.push("cells");
  const waiting = words.isPending || (parts.isPending && first.kind !== "dataset") || (cells.isPending && first.kind === "dataset");
  const way: Way | undefined = ways.includes(asked as Way) ? (asked as Way) : ways.includes("cells") ? "cells" : ways[0];
  const kept = useMemo(() => keptChange(target), [target]);
  const { edit } = saving;
  useEffect(() => {
    if (kept) edit(kept, true);
  }, [kept, edit]);
  const [typing, setTyping] = useState(false);
  const reload = useRef(onReload);
  reload.current = onReload;
  const hasKeptCells = (kept?.cells?.length ?? 0) > 0;
  useEffect(() => {
    if (hasKeptCells && saving.state === "saved") reload.current(); // the grid shows what was there without them
  }, [hasKeptCells, saving.state]);
  const change = (wanted: Change) => saving.edit(wanted, true);
  const swap = async (next: Way) => {
    // Each way reads what the other has saved.
    await queries.invalidateQueries({ queryKey: ["edit"] });
    setWay(next);
    onReload();
  };
  if (waiting) return <Loading what="Opening it" />;
  if (!way)
    return (
      <div className="sheet empty">
        {words.isError ? (
          <ProblemBox error={words.error} />
        ) : tooLong ? (
          "It is larger than 2 MB: edit it on a desk (everyshelf take), or replace the file."
        ) : (
          "There is nothing to edit here: replace the file, or edit it on a desk."
        )}
        {cells.data?.note && ` ${cells.data.note}.`}
      </div>
    );
  return (
    <>
      <div className="line1 editline">
        {ways.length > 1 && (
          <Switch label="Edit">
            {ways.map((w) => (
              <Part key={w} pressed={w === way} onClick={() => void swap(w)}>
                {WAYS[w]}
              </Part>
            ))}
          </Switch>
        )}
        <SavedNote
          typing={typing}
          state={saving.state}
          saved={saving.saved}
          problem={saving.problem}
          onInsist={saving.insist}
          onReload={onReload}
        />
        <span className="end">
          <Link to={`/s/${shelf}/compare?${new URLSearchParams({ path, from: branch, to: ref })}`}>What you changed</Link>
          <Link to={`/s/${shelf}/pending`}>Commit it</Link>
        </span>
      </div>
      {kept !== null && (
        <p className="cap">What you wrote here last could not be saved then. It was kept in this browser and is saved now.</p>
      )}
      {way === "text" && words.data && (
        <section className="sheet" aria-label="Text">
          <TextEditor
            path={path}
            text={kept?.text ?? words.data.text}
            label={`Text of ${path}`}
            onChange={(t) => saving.edit({ text: t })}
          />
        </section>
      )}
      {way === "fields" && parts.data && <FieldEditor outline={parts.data} isSettled={saving.state !== "saving"} onEdit={saving.edit} />}
      {way === "cells" && cells.data && <CellEditor table={cells.data} onEdit={change} onTyping={setTyping} />}
    </>
  );
}
