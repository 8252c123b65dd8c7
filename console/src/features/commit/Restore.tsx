/** A state, or an artifact as it was, restored by a new commit; what that does is said before it is done. */
import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useId, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { send } from "../../api/client";
import { ProblemBox } from "../../shell/states";

interface Given {
  shelf: string;
  branch: string;
  from: string;
  path?: string;
  label: string;
  title: string;
  does: string;
  usual: string;
}

export function Restore({ shelf, branch, from, path, label, title, does, usual }: Given) {
  const go = useNavigate();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const id = useId();
  const [summary, setSummary] = useState("");
  const restore = useMutation({
    mutationFn: () => send<{ commit: string }>("POST", `shelves/${shelf}/restore`, { branch, ref: from, path: path ?? null, summary }),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: ["shelf", shelf] });
      dialog.current?.close();
      void go(`/s/${shelf}/commit/${made.commit}`);
    },
  });
  return (
    <>
      <Button
        variant="outlined"
        onClick={() => {
          restore.reset();
          dialog.current?.showModal();
        }}
      >
        {label}
      </Button>
      <dialog ref={dialog} aria-labelledby={`${id}-title`}>
        <h2 id={`${id}-title`}>{title}</h2>
        <p>{does}</p>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            restore.mutate();
          }}
        >
          <div className="fieldrow">
            <label htmlFor={`${id}-summary`}>Summary</label>
            <input id={`${id}-summary`} className="inp" value={summary} placeholder={usual} onChange={(e) => setSummary(e.target.value)} />
          </div>
          {restore.isError && <ProblemBox error={restore.error} />}
          <p className="acts">
            <Button type="submit" variant="contained" disabled={restore.isPending}>
              Restore
            </Button>{" "}
            <Button onClick={() => dialog.current?.close()}>Cancel</Button>
          </p>
        </form>
      </dialog>
    </>
  );
}
