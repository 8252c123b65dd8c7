/** A webhook, made or changed: where it goes, what it hears of; a new secret is shown once. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { CopyButton } from "../../parts/Copying";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useDone } from "../../shell/Done";
import { ProblemBox } from "../../shell/states";
import type { Webhook } from "./queries";

const ABOUT: [string, string][] = [
  ["commit", "commits"],
  ["git", "commits that came with Git"],
  ["tag", "tags"],
  ["branch", "branches"],
  ["proposal", "proposals and verdicts"],
  ["merge", "merges to settle"],
  ["check", "checks"],
  ["promotion", "promotions, each phase"],
  ["environment", "environments, drift"],
];

/** ``one``: the webhook to be changed; without it a new one is made. */
export function MakeWebhook({ shelf, one }: { shelf: string; one?: Webhook }) {
  const queries = useQueryClient();
  const dialog = useSheet();
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [about, setAbout] = useState<string[]>([]);
  const change = (body: Schemas["PatchedWebhookChangeRequest"]) =>
    answer(api.PATCH("/shelves/{shelf}/webhooks/{webhook}", { params: { path: { shelf, webhook: name } }, body }));
  const done = useDone();
  const make = useMutation({
    mutationFn: async () => {
      const made = one
        ? await change({ address, about })
        : await answer(api.POST("/shelves/{shelf}/webhooks", { params: { path: { shelf } }, body: { name, address, about } }));
      return {
        made,
        tried: await answer(api.POST("/shelves/{shelf}/webhooks/{webhook}/test", { params: { path: { shelf, webhook: name } } })),
      };
    },
    onSuccess: async () => {
      if (one) {
        const was = { address: one.address, about: one.about };
        done({ said: `The webhook ${name} is changed.`, undo: () => change(was) });
      }
      await queries.invalidateQueries({ queryKey: ["shelf", shelf, "webhooks"] });
    },
  });
  const open = () => {
    make.reset();
    setName(one?.name ?? "");
    setAddress(one?.address ?? "");
    setAbout(one?.about ?? []);
    dialog.show();
  };
  const title = one ? `Change ${one.name}` : "Make a webhook";
  const choose = (id: string, is: boolean) => setAbout(is ? [...about, id] : about.filter((chosen) => chosen !== id));
  const others = about.filter((id) => !ABOUT.some(([known]) => known === id)).map((id): [string, string] => [id, id]);
  const id = (what: string) => `webhook-${what}-${one?.name ?? ""}`;
  return (
    <>
      {one ? (
        <TextAct aria-label={title} onClick={open}>
          Change
        </TextAct>
      ) : (
        <Button variant="outlined" onClick={open}>
          {title}
        </Button>
      )}
      <Sheet of={dialog} label={title}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>{title}</h2>
          {make.data ? (
            <>
              <p className="sec">
                {make.data.tried.state === "done"
                  ? `A test event arrived: answered ${make.data.tried.status}.`
                  : `A test event did not arrive: ${make.data.tried.why}.`}
                {!one && " Each event is signed with this secret. Copy it now; it is not shown again."}
              </p>
              {!one && (
                <Field mono aria-label="The secret" readOnly rows={2} value={make.data.made.secret} onFocus={(e) => e.target.select()} />
              )}
              <div className="acts">
                {!one && <CopyButton text={make.data.made.secret ?? ""}>Copy it</CopyButton>}
                <Button variant="contained" onClick={() => dialog.hide()}>
                  Done
                </Button>
              </div>
            </>
          ) : (
            <>
              {!one && (
                <Field
                  id={id("name")}
                  label="Name"
                  required
                  pattern="[a-z0-9]+(-[a-z0-9]+)*"
                  title="Lower-case letters, digits and dashes"
                  value={name}
                  onChange={(e) => setName(e.target.value)}
                />
              )}
              <Field
                id={id("address")}
                label="Address"
                required
                placeholder="https://HOST/PATH"
                value={address}
                onChange={(e) => setAddress(e.target.value)}
              />
              <fieldset>
                <legend>Hears of (none chosen: everything)</legend>
                {[...ABOUT, ...others].map(([act, words]) => (
                  <CheckField key={act} checked={about.includes(act)} onChange={(e) => choose(act, e.target.checked)}>
                    {words}
                  </CheckField>
                ))}
              </fieldset>
              {make.isError && <ProblemBox error={make.error} />}
              <div className="acts">
                <Button onClick={() => dialog.hide()}>Cancel</Button>
                <Button type="submit" variant="contained" disabled={make.isPending}>
                  {one ? "Change it and try it" : "Make it and try it"}
                </Button>
              </div>
            </>
          )}
        </form>
      </Sheet>
    </>
  );
}
