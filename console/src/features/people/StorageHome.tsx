/** Where versions live: in the data folder, in another folder, or in a bucket; making stores, and moving what lives in them. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { isRunning } from "../../marks/jobs";
import { count, size } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { useDone } from "../../shell/Done";
import { PlaceForm } from "./PlaceForm";
import { MAIN } from "./StoreChoice";

type Store = Schemas["StoreOut"];

export function StorageHome({ held, asked }: { held: Schemas["StorageOut"]; asked: readonly string[] }) {
  const queries = useQueryClient();
  const sheet = useSheet();
  const [of, setOf] = useState<Store>();
  const settled = () => Promise.all([queries.invalidateQueries({ queryKey: asked }), queries.invalidateQueries({ queryKey: ["stores"] })]);
  const move = useMutation({
    mutationFn: (body: Schemas["NewStoreRequest"]): Promise<unknown> =>
      of === undefined
        ? answer(api.POST("/storage/stores", { body }))
        : answer(api.POST("/storage/move", { body: { to: body.to, endpoint: body.endpoint, store: of.name } })),
    onSuccess: () => sheet.hide(),
    onSettled: settled,
  });
  const job = held.moving;
  const busy = isRunning(job) || move.isPending;
  const heldBack = job?.result?.held_back;
  const show = (store: Store | undefined) => {
    setOf(store);
    sheet.show();
  };
  return (
    <div>
      <div className="line1">
        {held.stores.length === 1 ? (
          <p>
            Versions live {held.home ? <>in {held.home}</> : "in the data folder of the service"}
            {held.home && `: ${size(held.at_home)} there`}
            {held.to_move > 0 && `; ${size(held.to_move)} to move`}
            {held.fetched > 0 && `; ${size(held.fetched)} of it read lately and kept here`}.
          </p>
        ) : (
          <p>
            Versions live in {count(held.stores.length, "store")}
            {held.fetched > 0 && `; ${size(held.fetched)} read lately in buckets are kept here`}.
          </p>
        )}
        <span className="end">
          {held.stores.length === 1 && (
            <Button size="small" disabled={busy} onClick={() => show(held.stores[0])}>
              Move versions
            </Button>
          )}
          <Button size="small" disabled={busy} onClick={() => show(undefined)}>
            Make a store
          </Button>
        </span>
      </div>
      {held.stores.length > 1 && <StoreTable rows={held.stores} busy={busy} move={show} removed={settled} />}
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
      <Sheet of={sheet} label={of === undefined ? "Make a store" : "Move versions"} onClose={() => move.reset()}>
        {sheet.shown && <PlaceForm of={of} busy={busy} error={move.error} send={move.mutate} cancel={sheet.hide} />}
      </Sheet>
    </div>
  );
}

interface TableProps {
  rows: Store[];
  busy: boolean;
  move: (store: Store) => void;
  removed: () => unknown;
}

function StoreTable({ rows, busy, move, removed }: TableProps) {
  const done = useDone();
  const remove = async (name: string) => {
    await answer(api.DELETE("/storage/stores/{name}", { params: { path: { name } } }));
    done({ said: `The store ${name} is removed.` });
    await removed();
  };
  return (
    <section className="sheet scroll" aria-label="Stores">
      <Table>
        <thead>
          <tr>
            <th>Store</th>
            <th>Lives in</th>
            <th className="num">Shelves</th>
            <th className="num">There</th>
            <th className="num">To move</th>
            <th>
              <span className="sr">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one) => (
            <tr key={one.name}>
              <td>
                <b>{one.name}</b>
              </td>
              <td className={one.home && "mono"}>{one.home || "the data folder"}</td>
              <td className="num">{one.shelves}</td>
              <td className="num">{size(one.at_home)}</td>
              <td className="num">{one.to_move > 0 ? size(one.to_move) : ""}</td>
              <td style={{ display: "flex", gap: 16 }}>
                <TextAct aria-label={`Move ${one.name}`} disabled={busy} onClick={() => move(one)}>
                  Move
                </TextAct>
                {one.name !== MAIN && one.shelves === 0 && (
                  <Ask
                    label="Remove"
                    aria-label={`Remove ${one.name}`}
                    title={`Remove the store ${one.name}`}
                    does="Nobody can choose it any more. It has to be empty: the storage is tidied, and nothing lives there."
                    act="Remove it"
                    onAct={() => remove(one.name)}
                  />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}
