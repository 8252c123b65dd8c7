/** Registering data where it lies: which path it gets, and where it is. */

import { Button } from "@mui/material";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { EndpointField } from "../../parts/EndpointField";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { ProblemBox } from "../../shell/states";

interface Props {
  shelf: string;
  branch: string;
  busy: boolean;
  onStart: () => void;
}

export function Register({ shelf, branch, busy, onStart }: Props) {
  const sheet = useSheet();
  const [path, setPath] = useState("");
  const [address, setAddress] = useState("");
  const [endpoint, setEndpoint] = useState("");
  const add = useMutation({
    mutationFn: () =>
      answer(
        api.POST("/shelves/{shelf}/in-place", {
          params: { path: { shelf } },
          body: { path: path.trim(), address: address.trim(), endpoint: endpoint.trim(), branch },
        }),
      ),
    onSuccess: () => sheet.hide(),
    onSettled: onStart,
  });
  const isBucket = address.trim().startsWith("s3:");
  return (
    <>
      <Button variant="contained" disabled={busy} onClick={() => sheet.show()}>
        Register data
      </Button>
      <Sheet of={sheet} label="Register data in place" onClose={() => add.reset()}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
        >
          <h2>Register data in place</h2>
          <p className="sec">
            Nothing is copied, and nothing is read but the listing. The commit goes to {branch}. Data that was registered before gets new
            versions where it has changed.
          </p>
          <Field
            label="Where the data lies"
            mono
            required
            placeholder="/FOLDER, s3://BUCKET/PREFIX or https://HOST/FILE"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
          {isBucket && <EndpointField value={endpoint} onChange={setEndpoint} />}
          <Field label="Path on the shelf" mono required placeholder="data/trips" value={path} onChange={(e) => setPath(e.target.value)} />
          {add.error && <ProblemBox error={add.error} />}
          <div className="acts">
            <Button onClick={sheet.hide}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={add.isPending || !path.trim() || !address.trim()}>
              Register
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
