/** Where versions are to live: for a store that is made, or for one whose versions are moved. */

import { Button } from "@mui/material";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { EndpointField } from "../../parts/EndpointField";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../shell/states";

const FOLDER = "folder";

interface Props {
  /** The store whose versions are moved; without one a store is made. */
  of: Schemas["StoreOut"] | undefined;
  busy: boolean;
  error: Error | null;
  send: (body: Schemas["NewStoreRequest"]) => void;
  cancel: () => void;
}

export function PlaceForm({ of, busy, error, send, cancel }: Props) {
  const [name, setName] = useState(of?.name ?? "");
  const [place, setPlace] = useState("");
  const [endpoint, setEndpoint] = useState("");
  const isMade = of === undefined;
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        send({ name: name.trim(), to: place.trim(), endpoint: endpoint.trim() });
      }}
    >
      <h2>{isMade ? "Make a store" : `Move the versions of the store ${of.name}`}</h2>
      <p className="sec">
        {isMade
          ? "Whoever makes a shelf chooses in which store its bytes live. The place is tried first: what is written there must be given back as it was."
          : "People go on working meanwhile. Each segment is read back before what lay elsewhere is removed."}{" "}
        The credentials are those that the service was started with.
      </p>
      {isMade && (
        <Field label="Name" mono required pattern="[a-z0-9\-]+" maxLength={32} value={name} onChange={(e) => setName(e.target.value)} />
      )}
      <Field
        label="Bucket and prefix, or a folder of the machine of the service"
        mono
        required
        placeholder="s3://BUCKET/PREFIX or /FOLDER"
        value={place}
        onChange={(e) => setPlace(e.target.value)}
      />
      <EndpointField value={endpoint} onChange={setEndpoint} />
      {error && <ProblemBox error={error} />}
      <div className="acts">
        <Button onClick={cancel}>Cancel</Button>
        {!isMade && of.home !== "" && (
          <Button disabled={busy} onClick={() => send({ name, to: FOLDER })}>
            Back to the data folder
          </Button>
        )}
        <Button type="submit" variant="contained" disabled={busy || place.trim() === "" || name.trim() === ""}>
          {isMade ? "Make it" : "Move"}
        </Button>
      </div>
    </form>
  );
}
