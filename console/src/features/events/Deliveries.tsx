/** What a webhook was sent: each event, whether it arrived, and the event itself. */

import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Table } from "../../parts/Table";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { type Delivery, deliveries } from "./queries";

const MARKS: Record<string, string> = { done: "✓", waiting: "◷", failed: "✕" };

export function Deliveries({ shelf, name }: { shelf: string; name: string }) {
  const [state, setState] = useState("");
  const found = useInfiniteQuery(deliveries(shelf, name, state));
  const rows = found.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <section className="sheet scroll" style={{ marginTop: 10 }} aria-label={`Deliveries to ${name}`}>
      <div className="ph">
        <h2 className="h3">Sent to {name}</h2>
        <span className="cap">newest first</span>
        <span className="r">
          <Choice id="delivery-state" label="State" value={state} onChange={(e) => setState(e.target.value)}>
            <option value="">all</option>
            <option>waiting</option>
            <option>done</option>
            <option>failed</option>
          </Choice>
        </span>
      </div>
      {found.isPending && <Loading what="Reading what was sent" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && rows.length === 0 && <Empty>Nothing {state || "yet"}.</Empty>}
      {rows.length > 0 && (
        <Table>
          <thead>
            <tr>
              <th>When</th>
              <th>State</th>
              <th>Event</th>
              <th>About</th>
              <th>Answer</th>
              <th>
                <span className="sr">Acts</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <Row key={one.event} shelf={shelf} name={name} one={one} />
            ))}
          </tbody>
        </Table>
      )}
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show older ones</TextAct>
        </p>
      )}
    </section>
  );
}

function outcome(one: Delivery): string {
  const tries = one.tries > 1 ? `, ${count(one.tries, "try", "tries")}` : "";
  if (one.state === "done") return `${one.status} after ${one.took_ms ?? 0} ms${tries}`;
  const next = one.next_try && one.state === "waiting" && one.tries ? `, again ${when(one.next_try)}` : "";
  return `${one.why ?? ""}${tries}${next}`;
}

function Row({ shelf, name, one }: { shelf: string; name: string; one: Delivery }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const again = useMutation({
    mutationFn: () =>
      answer(
        api.POST("/shelves/{shelf}/webhooks/{webhook}/deliveries/{event}/send", {
          params: { path: { shelf, webhook: name, event: one.event } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["shelf", shelf, "webhooks"] }),
  });
  return (
    <>
      <tr>
        <td title={one.created}>{when(one.created)}</td>
        <td>
          {MARKS[one.state]} {one.state === "failed" ? <b>failed</b> : one.state}
        </td>
        <td className="mono">{one.type.replace(/^every-shelf\./, "")}</td>
        <td className="wrap">{one.subject}</td>
        <td className="wrap sec">{outcome(one)}</td>
        <td className="num">
          <TextAct disabled={again.isPending} aria-label={`Send again ${one.event}`} onClick={() => again.mutate()}>
            Send again
          </TextAct>{" "}
          <TextAct aria-expanded={open} aria-label={`${open ? "Hide" : "Show"} ${one.event}`} onClick={() => setOpen(!open)}>
            {open ? "Hide" : "Show"}
          </TextAct>
        </td>
      </tr>
      {again.isError && (
        <tr>
          <td colSpan={6}>
            <ProblemBox error={again.error} />
          </td>
        </tr>
      )}
      {open && (
        <tr>
          <td colSpan={6}>
            <pre className="mono event" tabIndex={0} role="region" aria-label="The event">
              {JSON.stringify(JSON.parse(one.body), null, 2)}
            </pre>
          </td>
        </tr>
      )}
    </>
  );
}
