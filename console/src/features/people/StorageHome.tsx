/** Where versions live: on the machine of the service, or in a bucket; and moving them there and back. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { isRunning } from "../../marks/jobs";
import { size } from "../../marks/words";
import { EndpointField } from "../../parts/EndpointField";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { ProblemBox } from "../../shell/states";

const FOLDER = "folder";

export function StorageHome({ held, asked }: { held: Schemas["StorageOut"]; asked: readonly string[] }) {
  const queries = useQueryClient();
  const sheet = useSheet();
  const move = useMutation({
    mutationFn: (body: Schemas["MoveInRequest"]) => answer(api.POST("/storage/move", { body })),
    onSuccess: () => sheet.hide(),
    onSettled: () => queries.invalidateQueries({ queryKey: asked }),
  });
  const job = held.moving;
  const busy = isRunning(job) || move.isPending;
  const heldBack = job?.result?.held_back;
  return (
    <div>
      <p>
        Versions live {held.home ? <>in {held.home}</> : "on the machine of the service"}
        {held.home && `: ${size(held.at_home)} there`}
        {held.to_move > 0 && `; ${size(held.to_move)} to move`}
        {held.fetched > 0 && `; ${size(held.fetched)} of it read lately and kept here`}.{" "}
        <Button size="small" disabled={busy} onClick={() => sheet.show()}>
          Move versions
        </Button>
      </p>
      {isRunning(job) && (
        <p role="status" className="sec">
          Moving: {job && job.total > 0 ? `${Math.floor((100 * job.done) / job.total)} %` : "waiting"}
        </p>
      )}
      {typeof heldBack === "string" && heldBack !== "" && (
        <p role="alert" className="problem">
          {heldBack}
        </p>
      )}
      {job?.state === "failed" && (
        <p role="alert" className="problem">
          <b>The last move failed.</b> {job.problem?.detail} {job.problem?.hint}
        </p>
      )}
      <Sheet of={sheet} label="Move versions" onClose={() => move.reset()}>
        <MoveForm isAway={held.home !== ""} busy={busy} error={move.error} move={move.mutate} cancel={sheet.hide} />
      </Sheet>
    </div>
  );
}

interface FormProps {
  isAway: boolean;
  busy: boolean;
  error: Error | null;
  move: (body: Schemas["MoveInRequest"]) => void;
  cancel: () => void;
}

function MoveForm({ isAway, busy, error, move, cancel }: FormProps) {
  const [bucket, setBucket] = useState("");
  const [endpoint, setEndpoint] = useState("");
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        move({ to: bucket.trim(), endpoint: endpoint.trim() });
      }}
    >
      <h2>Move versions</h2>
      <p className="sec">
        People go on working meanwhile. Each segment is read back before what lay elsewhere is removed. The credentials are those that the
        service was started with.
      </p>
      <Field
        label="Bucket and prefix"
        mono
        required
        placeholder="s3://BUCKET/PREFIX"
        value={bucket}
        onChange={(e) => setBucket(e.target.value)}
      />
      <EndpointField value={endpoint} onChange={setEndpoint} />
      {error && <ProblemBox error={error} />}
      <div className="acts">
        <Button onClick={cancel}>Cancel</Button>
        {isAway && (
          <Button disabled={busy} onClick={() => move({ to: FOLDER })}>
            Back to this machine
          </Button>
        )}
        <Button type="submit" variant="contained" disabled={busy || bucket.trim() === ""}>
          Move
        </Button>
      </div>
    </form>
  );
}
