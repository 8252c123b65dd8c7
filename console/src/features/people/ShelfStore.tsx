/** Where the bytes of this shelf live, and moving them to another store; for owners, where there are several stores. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { isRunning } from "../../marks/jobs";
import { count, size } from "../../marks/words";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import { shelfStore, stores } from "./queries";
import { StoreChoice } from "./StoreChoice";

const LOOK_AGAIN_MS = 1500;

export function ShelfStore() {
  const key = useShelfKey();
  const sheet = useSheet();
  const all = useQuery(stores());
  const several = (all.data?.length ?? 0) > 1;
  const found = useQuery({
    ...shelfStore(key),
    enabled: several,
    refetchInterval: (query) => (isRunning(query.state.data?.moving) ? LOOK_AGAIN_MS : false),
  });
  if (!several || !found.data) return null;
  const { store, moving } = found.data;
  const stopped = moving?.state === "failed" || moving?.state === "cancelled";
  const left = moving?.result?.left;
  return (
    <section aria-label="Where its bytes live" style={{ marginTop: 12 }}>
      <p>
        The bytes of this shelf live in the store <b>{store}</b>
        {moving?.state === "done" && `; ${size(Number(moving.result?.bytes ?? 0))} copied when it moved there`}.{" "}
        <Button size="small" disabled={isRunning(moving)} onClick={() => sheet.show()}>
          Move them
        </Button>
      </p>
      {isRunning(moving) && (
        <p role="status" className="sec">
          Copying: {moving && moving.total > 0 ? `${Math.floor((100 * moving.done) / moving.total)} %` : "waiting"}
        </p>
      )}
      {typeof left === "number" && left > 0 && (
        <p role="alert" className="problem">
          {count(left, "content")} could not be copied. everyshelf verify names the versions harmed.
        </p>
      )}
      {stopped && (
        <div role="alert" className="problem">
          <b>The last move {moving?.state === "failed" ? "failed" : "was cancelled"}.</b> {moving?.problem?.detail} {moving?.problem?.hint}{" "}
          What was written before may still lie elsewhere. <TryAgain store={store} />
        </div>
      )}
      <Sheet of={sheet} label="Move the bytes of this shelf">
        {sheet.shown && <MoveForm now={store} hide={sheet.hide} />}
      </Sheet>
    </section>
  );
}

/** Copies what the last move left: the same store once more. */
function TryAgain({ store }: { store: string }) {
  const move = useMove();
  return (
    <>
      <Button size="small" disabled={move.isPending} onClick={() => move.mutate(store)}>
        Try again
      </Button>
      {move.isError && <ProblemBox error={move.error} />}
    </>
  );
}

function useMove(onSuccess?: () => void) {
  const key = useShelfKey();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (store: string) => answer(api.PUT("/shelves/{shelf}/store", { params: { path: { shelf: key } }, body: { store } })),
    onSuccess,
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", key] }),
  });
}

function MoveForm({ now, hide }: { now: string; hide: () => void }) {
  const [store, setStore] = useState(now);
  const move = useMove(hide);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        move.mutate(store);
      }}
    >
      <h2>Move the bytes of this shelf</h2>
      <p className="sec">
        People go on working meanwhile. What is written from now on goes there at once; what was written before is copied, and then freed
        where it lay.
      </p>
      <StoreChoice value={store} onChange={setStore} />
      {move.isError && <ProblemBox error={move.error} />}
      <div className="acts">
        <Button onClick={hide}>Cancel</Button>
        <Button type="submit" variant="contained" disabled={move.isPending || store === now}>
          Move them
        </Button>
      </div>
    </form>
  );
}
