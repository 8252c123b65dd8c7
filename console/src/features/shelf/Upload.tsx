/** Adding files: they are sent at once and wait as pending changes. */

import { Button } from "@mui/material";
import { useState } from "react";
import { useNavigate } from "react-router";
import { putFile, putFiles } from "../../api/client";
import { group } from "../../marks/words";
import { Field } from "../../parts/Field";
import { FileField } from "../../parts/FileField";
import { Sheet, useSheet } from "../../parts/Sheet";
import { ProblemBox } from "../../shell/states";
import { usePending } from "../pending/pending";
import { batchesOf } from "./batches";

interface Props {
  shelf: string;
  branch: string;
  commit: string | null;
  only?: string;
  label?: string;
}

export function Upload({ shelf, branch, commit, only, label = "Add files" }: Props) {
  const dialog = useSheet();
  const { keepAll } = usePending(shelf);
  const go = useNavigate();
  const [folder, setFolder] = useState("");
  const [note, setNote] = useState("");
  const [problem, setProblem] = useState<unknown>(null);
  const take = async (files: File[]) => {
    setProblem(null);
    try {
      let done = 0;
      for (const batch of batchesOf(files)) {
        const [first] = batch;
        setNote(`Sending ${group(done + 1)} of ${group(files.length)}: ${first?.name}`);
        const sent = first && batch.length === 1 ? [await putFile(shelf, first)] : await putFiles(shelf, batch);
        const pathOf = (file: File) =>
          only ?? [folder.replace(/^\/+|\/+$/g, ""), file.webkitRelativePath || file.name].filter(Boolean).join("/");
        const entries = batch.map((file, n) => ({ path: pathOf(file), content: sent[n]?.id ?? null }));
        await keepAll({ branch, base: commit, entries });
        done += batch.length;
      }
      dialog.hide();
      await go(`/s/${shelf}/pending`);
    } catch (error) {
      setProblem(error);
    } finally {
      setNote("");
    }
  };
  return (
    <>
      <Button variant={only ? "outlined" : "contained"} onClick={() => dialog.show()}>
        {label}
      </Button>
      <Sheet of={dialog} label={label}>
        <h2>{only ? `Replace ${only}` : `Add files to ${branch}`}</h2>
        {!only && (
          <Field
            id="upload-folder"
            label="Folder on the shelf (may be new)"
            value={folder}
            placeholder="data"
            onChange={(e) => setFolder(e.target.value)}
          />
        )}
        <div
          className="drop"
          onDragOver={(e) => e.preventDefault()}
          onDrop={(e) => {
            e.preventDefault();
            void take([...e.dataTransfer.files]);
          }}
        >
          <p>Drop {only ? "the file" : "files"} here, or</p>
          <FileField label="Files to send" multiple={!only} onFiles={(files) => void take(files)}>
            Choose {only ? "the file" : "files"}
          </FileField>
        </div>
        {note && <p role="status">{note}</p>}
        {problem !== null && <ProblemBox error={problem} />}
        <div className="acts">
          <Button onClick={() => dialog.hide()}>Close</Button>
        </div>
      </Sheet>
    </>
  );
}
