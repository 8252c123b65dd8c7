/** The shelf's credentials for buckets and servers: set, replaced, removed; a secret is never shown again. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { EndpointField } from "../../parts/EndpointField";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { Empty, ProblemBox } from "../../shell/states";
import { inPlaceKey, inPlaceKeys } from "./queries";

export function Credentials({ shelf }: { shelf: string }) {
  const queries = useQueryClient();
  const found = useQuery(inPlaceKeys(shelf));
  const again = () => queries.invalidateQueries({ queryKey: inPlaceKey(shelf) });
  const remove = async (place: string) => {
    await answer(api.DELETE("/shelves/{shelf}/in-place/credentials", { params: { path: { shelf }, query: { place } } }));
    await again();
  };
  return (
    <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Credentials">
      <div className="ph">
        <h2 className="h3">Credentials</h2>
        <span className="cap">for buckets and servers</span>
        <span className="r">
          <SetCredentials shelf={shelf} onSet={again} />
        </span>
      </div>
      {found.isError && <ProblemBox error={found.error} />}
      {found.data?.length === 0 && <Empty>None. Folders and public addresses need none.</Empty>}
      {found.data && found.data.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th>For</th>
              <th>Key</th>
              <th>Set</th>
              <th>
                <span className="sr">Acts</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {found.data.map((one) => (
              <tr key={one.place}>
                <td className="mono wrap">{one.place}</td>
                <td className="mono">{one.key_id || "a token"}</td>
                <td title={one.time}>
                  {one.set_by}, {when(one.time)}
                </td>
                <td className="num">
                  <Ask
                    label="Remove"
                    aria-label={`Remove the credentials for ${one.place}`}
                    title="Remove the credentials"
                    does={`Data at ${one.place} stays registered, and cannot be read until others are set.`}
                    act="Remove the credentials"
                    onAct={() => remove(one.place)}
                  />
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}

function SetCredentials({ shelf, onSet }: { shelf: string; onSet: () => unknown }) {
  const sheet = useSheet();
  const [where, setWhere] = useState("");
  const [endpoint, setEndpoint] = useState("");
  const [keyId, setKeyId] = useState("");
  const [secret, setSecret] = useState("");
  const set = useMutation({
    mutationFn: () =>
      answer(
        api.PUT("/shelves/{shelf}/in-place/credentials", {
          params: { path: { shelf } },
          body: { address: where.trim(), endpoint: endpoint.trim(), key_id: keyId.trim(), secret },
        }),
      ),
    onSuccess: async () => {
      setSecret("");
      sheet.hide();
      await onSet();
    },
  });
  const isBucket = where.trim().startsWith("s3:");
  return (
    <>
      <TextAct onClick={() => sheet.show()}>Set credentials</TextAct>
      <Sheet of={sheet} label="Set credentials" onClose={() => set.reset()}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            set.mutate();
          }}
        >
          <h2>Set credentials</h2>
          <p className="sec">They are kept encrypted, used for this shelf only, and not shown again. Those that were set are replaced.</p>
          <Field
            label="Bucket or server"
            mono
            required
            placeholder="s3://BUCKET or https://HOST"
            value={where}
            onChange={(e) => setWhere(e.target.value)}
          />
          {isBucket && (
            <>
              <EndpointField value={endpoint} onChange={setEndpoint} />
              <Field label="Id of the key" mono required value={keyId} onChange={(e) => setKeyId(e.target.value)} />
            </>
          )}
          <Field
            label={isBucket ? "Secret of the key" : "Token"}
            mono
            required
            type="password"
            autoComplete="off"
            value={secret}
            onChange={(e) => setSecret(e.target.value)}
          />
          {set.error && <ProblemBox error={set.error} />}
          <div className="acts">
            <Button onClick={sheet.hide}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={set.isPending || !where.trim() || !secret}>
              Set
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
