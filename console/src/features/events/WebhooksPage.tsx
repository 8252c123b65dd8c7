/** Programs that hear of what happens on the shelf, and what each of them was sent. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api } from "../../api/client";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { Table } from "../../parts/Table";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { Deliveries } from "./Deliveries";
import { MakeWebhook } from "./MakeWebhook";
import { type Webhook, webhooks } from "./queries";

/** What people have to know first: whether anything did not arrive. */
function sentence(found: Webhook[] | undefined) {
  if (!found?.length) return "No program hears of what happens here yet.";
  const failing = found.filter((one) => one.stopped || one.failed);
  const all = `${count(found.length, "program")} ${found.length === 1 ? "hears" : "hear"} of what happens here`;
  if (!failing.length) return `${all}: everything arrived.`;
  return (
    <>
      {all}; <b>not everything reached {failing.map((one) => one.name).join(", ")}</b>.
    </>
  );
}

export function WebhooksPage() {
  const key = useShelfKey();
  const [chosen, setChosen] = useParam("webhook");
  const found = useQuery(webhooks(key));
  const shown = found.data?.find((one) => one.name === chosen) ?? found.data?.[0];
  return (
    <Page
      page="log"
      title="Webhooks"
      at="main"
      say={
        <>
          <i className="j">tells</i> <b>programs</b>
        </>
      }
    >
      <div className="line1">
        <h1>{sentence(found.data)}</h1>
        <span className="end">
          <Link to={`/s/${key}/log`}>The log they are told of</Link> <MakeWebhook shelf={key} />
        </span>
      </div>
      {found.isPending && <Loading what="Reading the webhooks" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data?.length === 0 && (
        <Empty>A webhook sends each event, signed, to an address of yours: commits, tags, proposals, promotions, drift, checks.</Empty>
      )}
      {found.data && found.data.length > 0 && (
        <section className="sheet scroll" aria-label="Webhooks">
          <Table className="links">
            <thead>
              <tr>
                <th>Webhook</th>
                <th>Hears of</th>
                <th className="num">Waiting</th>
                <th className="num">Failed</th>
                <th>Last</th>
                <th>
                  <span className="sr">Acts</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {found.data.map((one) => (
                <Row key={one.name} shelf={key} one={one} chosen={one.name === shown?.name} onChoose={() => setChosen(one.name)} />
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {shown && <Deliveries key={shown.name} shelf={key} name={shown.name} />}
    </Page>
  );
}

function Row({ shelf, one, chosen, onChoose }: { shelf: string; one: Webhook; chosen: boolean; onChoose: () => void }) {
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["shelf", shelf, "webhooks"] });
  const params = { path: { shelf, webhook: one.name } };
  const test = useMutation({
    mutationFn: () => answer(api.POST("/shelves/{shelf}/webhooks/{webhook}/test", { params })),
    onSuccess: again,
  });
  const start = useMutation({
    mutationFn: () => answer(api.PATCH("/shelves/{shelf}/webhooks/{webhook}", { params, body: {} })),
    onSuccess: again,
  });
  const remove = async () => {
    await answer(api.DELETE("/shelves/{shelf}/webhooks/{webhook}", { params }));
    await again();
  };
  const error = test.error ?? start.error;
  return (
    <>
      <tr className={chosen ? "chosen" : ""}>
        <td>
          <TextAct aria-pressed={chosen} onClick={onChoose}>
            <b>{one.name}</b>
          </TextAct>
          <span className="cap mono el" title={one.address}>
            {one.address}
          </span>
        </td>
        <td className="wrap">{one.about.join(", ") || "everything"}</td>
        <td className="num">{one.waiting}</td>
        <td className="num">{one.failed ? <b>✕ {one.failed}</b> : 0}</td>
        <td title={one.last ?? ""}>{one.last ? when(one.last) : "nothing yet"}</td>
        <td className="num">
          {one.stopped && <TextAct onClick={() => start.mutate()}>Start again</TextAct>}{" "}
          <TextAct disabled={test.isPending} aria-label={`Test ${one.name}`} onClick={() => test.mutate()}>
            Test
          </TextAct>{" "}
          <MakeWebhook shelf={shelf} one={one} />{" "}
          <Ask
            label="Remove"
            aria-label={`Remove ${one.name}`}
            title={`Remove ${one.name}`}
            does={`${one.address} hears of nothing from then on${one.waiting ? `; ${one.waiting} waiting for it are not sent` : ""}. Its secret is gone with it.`}
            act="Remove the webhook"
            onAct={remove}
          />
        </td>
      </tr>
      {one.stopped && (
        <tr className="why">
          <td colSpan={6}>
            <b>Stopped: {one.stopped}.</b>
          </td>
        </tr>
      )}
      {test.data && (
        <tr className="why">
          <td colSpan={6} role="status">
            {test.data.state === "done" ? (
              `The test event arrived: answered ${test.data.status} after ${test.data.took_ms ?? 0} ms.`
            ) : (
              <b>The test event did not arrive: {test.data.why}.</b>
            )}
          </td>
        </tr>
      )}
      {error && (
        <tr>
          <td colSpan={6}>
            <ProblemBox error={error} />
          </td>
        </tr>
      )}
    </>
  );
}
