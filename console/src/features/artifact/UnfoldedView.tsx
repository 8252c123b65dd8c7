/** An artifact as readable parts: files left, the chosen one right; taken away as a zip, and back edited. */

import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, putFile } from "../../api/client";
import { unfolded } from "../../api/queries";
import { address } from "../../api/query";
import { count, size } from "../../marks/words";
import { RowAct } from "../../parts/Acts";
import { FileField } from "../../parts/FileField";
import { later } from "../../parts/later";
import { isReadOnly } from "../../shell/RefChooser";
import { Loading, ProblemBox } from "../../shell/states";
import { usePending } from "../pending/pending";

const ReadText = later(() => import("../text/ReadText"), <Loading what="Reading the text" />);

interface Props {
  shelf: string;
  path: string;
  at: string;
  version?: string;
  commit: string | null;
}

export function UnfoldedView({ shelf, path, at, version, commit }: Props) {
  const found = useQuery(unfolded(shelf, path, at, version));
  const [chosen, setChosen] = useState("");
  if (found.isPending) return <Loading what="Unfolding it" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const { files, notes } = found.data;
  const shown = files.filter((f) => f.path !== "fold.json");
  const file = shown.find((f) => f.path === chosen) ?? shown.find((f) => f.path.includes("/") && f.text) ?? shown[0];
  return (
    <div className="cols2">
      <section className="sheet" aria-label="Parts">
        <div className="ph">
          <h2 className="h3">Parts</h2>
          <span className="cap">{count(shown.length, "file")}</span>
        </div>
        <div className="tree">
          {shown.map((f) => (
            <RowAct key={f.path} aria-current={f === file} onClick={() => setChosen(f.path)}>
              <span className="la mono" style={{ flex: 1 }}>
                {f.path}
              </span>
              <span className="cap">{size(f.size)}</span>
            </RowAct>
          ))}
          {notes.map((n) => (
            <p key={n} className="cap pad">
              {n}
            </p>
          ))}
        </div>
      </section>
      <section className="sheet" aria-label="Part as text">
        <div className="ph">
          <h2 className="h3 mono">{file?.path}</h2>
          <span className="r">
            <Button size="small" variant="outlined" href={address(`shelves/${shelf}/artifact/unfolded/file`, { path, ref: at, version })}>
              Download all parts
            </Button>
            {!isReadOnly(at) && !version && <FoldBack shelf={shelf} path={path} branch={at} commit={commit} />}
          </span>
        </div>
        {file?.text === null ? (
          <p className="cap pad">No text, or too long to be shown here; download it.</p>
        ) : (
          <ReadText path={file?.path ?? ""} text={file?.text ?? ""} label={`Text of ${file?.path}`} />
        )}
      </section>
    </div>
  );
}

/** Edited parts, zipped, folded by the service and kept as a pending change. */
function FoldBack({ shelf, path, branch, commit }: { shelf: string; path: string; branch: string; commit: string | null }) {
  const { keep } = usePending(shelf);
  const go = useNavigate();
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const take = async (file: File | undefined) => {
    if (!file) return;
    setProblem(null);
    setBusy(true);
    try {
      const sent = await putFile(shelf, file);
      const folded = await answer(api.POST("/shelves/{shelf}/contents/fold", { params: { path: { shelf } }, body: { content: sent.id } }));
      await keep({ path, content: folded.id, branch, base: commit });
      await go(`/s/${shelf}/pending`);
    } catch (error) {
      setProblem(error);
    } finally {
      setBusy(false);
    }
  };
  return (
    <>
      <FileField label="Edited parts as a zip" accept=".zip" disabled={busy} onFiles={([file]) => void take(file)}>
        {busy ? "Folding" : "Fold edited parts"}
      </FileField>
      {problem !== null && <ProblemBox error={problem} />}
    </>
  );
}
