import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { putFile, type Schemas, send } from "../../api/client";
import { branches } from "../../api/queries";
import { Mark } from "../../marks/Mark";
import { count } from "../../marks/words";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";

type Unpacked = Schemas["UnpackedOut"];

/** A parcel from elsewhere, checked and brought into one's draft. */
export function UnpackParcel() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const lines = useQuery(branches(key));
  const [file, setFile] = useState<File | null>(null);
  const [branch, setBranch] = useState("main");
  const unpack = useMutation({
    mutationFn: async (chosen: File) => {
      const uploaded = await putFile(key, chosen);
      return send<Unpacked>("POST", `shelves/${key}/drafts/unpack`, { content: uploaded.id, branch });
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["shelf", key] }),
  });
  const done = unpack.data;
  return (
    <>
      <Button
        variant="outlined"
        onClick={() => {
          unpack.reset();
          setFile(null);
          dialog.current?.showModal();
        }}
      >
        Unpack a parcel
      </Button>
      <dialog ref={dialog} aria-label="Unpack a parcel">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (file) unpack.mutate(file);
          }}
        >
          <h2>Unpack a parcel</h2>
          <p className="sec sm">The parcel is verified first. Its contents go into your private draft until you commit.</p>
          <label htmlFor="parcel-file">Parcel</label>
          <input
            id="parcel-file"
            className="inp"
            type="file"
            accept=".zip"
            required
            onChange={(e) => {
              setFile(e.target.files?.[0] ?? null);
              unpack.reset();
            }}
          />
          <label htmlFor="parcel-branch">Draft of the branch</label>
          <select id="parcel-branch" className="inp" value={branch} onChange={(e) => setBranch(e.target.value)}>
            {lines.data?.map((l) => (
              <option key={l.name}>{l.name}</option>
            ))}
          </select>
          {unpack.isPending && (
            <p className="sec" role="status">
              Checking and unpacking …
            </p>
          )}
          {unpack.isError && <ProblemBox error={unpack.error} />}
          {done && (
            <div role="status">
              <p>
                <b>
                  {done.artifacts.length
                    ? `${count(done.artifacts.length, "artifact")} of ${done.parcel} in your draft`
                    : `${done.parcel} brings nothing new`}
                </b>
                {done.same ? `; ${done.same} were there already` : ""}.
              </p>
              {done.artifacts.slice(0, 12).map((a) => (
                <p key={a.path} style={{ margin: "3px 0" }}>
                  <Mark action={a.state} /> {a.path}
                </p>
              ))}
              {done.artifacts.length > 12 && <p className="sec">and {done.artifacts.length - 12} more</p>}
              {done.artifacts.length > 0 && (
                <Link to={`/s/${key}/pending?branch=${encodeURIComponent(done.branch)}`}>Look at what is pending</Link>
              )}
            </div>
          )}
          <div className="acts">
            <Button onClick={() => dialog.current?.close()}>{done ? "Close" : "Cancel"}</Button>
            {!done && (
              <Button type="submit" variant="contained" disabled={!file || unpack.isPending}>
                Check and unpack
              </Button>
            )}
          </div>
        </form>
      </dialog>
    </>
  );
}
