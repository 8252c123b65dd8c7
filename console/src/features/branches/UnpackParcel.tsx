import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api, putFile } from "../../api/client";
import { everyBranch } from "../../api/queries";
import { Mark } from "../../marks/Mark";
import { count } from "../../marks/words";
import { Choice } from "../../parts/Choice";
import { FileField } from "../../parts/FileField";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";

/** A parcel from elsewhere, checked and brought into one's draft. */
export function UnpackParcel() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
  const lines = useQuery({ ...everyBranch(key), enabled: dialog.shown });
  const [file, setFile] = useState<File | null>(null);
  const [branch, setBranch] = useState("main");
  const unpack = useMutation({
    mutationFn: async (chosen: File) => {
      const uploaded = await putFile(key, chosen);
      return answer(
        api.POST("/shelves/{shelf}/drafts/unpack", { params: { path: { shelf: key } }, body: { content: uploaded.id, branch } }),
      );
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
          dialog.show();
        }}
      >
        Unpack a parcel
      </Button>
      <Sheet of={dialog} label="Unpack a parcel">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (file) unpack.mutate(file);
          }}
        >
          <h2>Unpack a parcel</h2>
          <p className="sec sm">The parcel is verified first. Its contents go into your private draft until you commit.</p>
          <FileField
            label="Parcel"
            accept=".zip"
            onFiles={([chosen]) => {
              setFile(chosen ?? null);
              unpack.reset();
            }}
          >
            {file ? file.name : "Choose the parcel"}
          </FileField>
          <Choice id="parcel-branch" label="Draft of the branch" value={branch} onChange={(e) => setBranch(e.target.value)}>
            {lines.data?.map((l) => (
              <option key={l.name}>{l.name}</option>
            ))}
          </Choice>
          {unpack.isPending && (
            <p className="sec" role="status">
              Checking and unpacking …
            </p>
          )}
          {lines.isError && <ProblemBox error={lines.error} />}
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
            <Button onClick={() => dialog.hide()}>{done ? "Close" : "Cancel"}</Button>
            {!done && (
              <Button type="submit" variant="contained" disabled={!file || unpack.isPending}>
                Check and unpack
              </Button>
            )}
          </div>
        </form>
      </Sheet>
    </>
  );
}
