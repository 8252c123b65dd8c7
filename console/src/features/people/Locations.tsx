/** Locations that shelves use, for administrators: which shelf has which, and sharing one with another shelf. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { Loading, ProblemBox } from "../../shell/states";
import { locations } from "./queries";

type Location = Schemas["LocationOut"];

export function Locations() {
  const found = useQuery(locations());
  if (found.isPending) return <Loading what="Reading the locations" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  return (
    <section aria-label="Locations">
      <h2 style={{ marginTop: 20 }}>Shelves use {count(found.data.length, "location")}.</h2>
      <p className="sec">
        A folder, repository, database or server belongs to the shelf that took it first. Links and data in place can be shared.
      </p>
      {found.data.length > 0 && (
        <div className="sheet scroll" role="group" aria-label="All locations" style={{ marginTop: 8 }}>
          <Table>
            <thead>
              <tr>
                <th>Location</th>
                <th>Use</th>
                <th>Shelf</th>
                <th>Taken</th>
                <th>Shared with</th>
                <th>
                  <span className="sr">Action</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {found.data.map((one) => (
                <tr key={`${one.shelf} ${one.use} ${one.address}`}>
                  <td className="mono">{one.address}</td>
                  <td>{one.use}</td>
                  <td>{one.shelf}</td>
                  <td>
                    {when(one.taken)}
                    {one.taken_by && ` by ${one.taken_by}`}
                  </td>
                  <td>
                    {one.shared_with.map((key) => (
                      <Shared key={key} of={one} shelf={key} />
                    ))}
                  </td>
                  <td>{one.use !== "environment" && <Share of={one} />}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </section>
  );
}

function Shared({ of, shelf }: { of: Location; shelf: string }) {
  const queries = useQueryClient();
  const stop = async () => {
    await answer(api.DELETE("/locations/shares", { params: { query: { address: of.address, shelf } } }));
    await queries.invalidateQueries(locations());
  };
  return (
    <div>
      {shelf}{" "}
      <Ask
        label="Stop"
        aria-label={`Stop sharing ${of.address} with ${shelf}`}
        title={`Stop sharing ${of.address} with ${shelf}`}
        does="Links and data in place that it has there are refused from then on. Nothing is removed."
        act="Stop sharing"
        onAct={stop}
      />
    </div>
  );
}

function Share({ of }: { of: Location }) {
  const sheet = useSheet();
  const queries = useQueryClient();
  const [shelf, setShelf] = useState("");
  const share = useMutation({
    mutationFn: () => answer(api.POST("/locations/shares", { body: { address: of.address, shelf } })),
    onSuccess: async () => {
      await queries.invalidateQueries(locations());
      setShelf("");
      sheet.hide();
    },
  });
  return (
    <>
      <TextAct
        aria-label={`Share ${of.address}`}
        onClick={() => {
          share.reset();
          sheet.show();
        }}
      >
        Share
      </TextAct>
      <Sheet of={sheet} label={`Share ${of.address}`}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            share.mutate();
          }}
        >
          <h2>Share a location</h2>
          <p>
            Owners of that shelf may then link <span className="mono">{of.address}</span>, or register data that lies there. They see all of
            it.
          </p>
          <Field id="share-shelf" label="Key of the shelf" mono value={shelf} onChange={(e) => setShelf(e.target.value)} />
          {share.isError && <ProblemBox error={share.error} />}
          <div className="acts">
            <Button onClick={() => sheet.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={!shelf || share.isPending}>
              Share it
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
