/** A webhook: where it goes, what it hears of; its secret is shown once. */
import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { send } from "../../api/client";
import { ProblemBox } from "../../shell/states";
import type { Delivery, Webhook } from "./queries";

const ABOUT: [string, string][] = [
  ["commit", "commits"], ["git", "commits that came with Git"], ["tag", "tags"], ["branch", "branches"], ["proposal", "proposals and verdicts"],
  ["merge", "merges to settle"], ["check", "checks"], ["promotion", "promotions, each phase"], ["environment", "environments, drift"],
];

export function MakeWebhook({ shelf }: { shelf: string }) {
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [about, setAbout] = useState<string[]>([]);
  const make = useMutation({
    mutationFn: async () => {
      const made = await send<Webhook>("POST", `shelves/${shelf}/webhooks`, { name, address, about });
      return { made, tried: await send<Delivery>("POST", `shelves/${shelf}/webhooks/${name}/test`) };
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["shelf", shelf, "webhooks"] }),
  });
  return (
    <>
      <Button variant="outlined" onClick={() => { make.reset(); setName(""); setAddress(""); setAbout([]); dialog.current?.showModal(); }}>Make a webhook</Button>
      <dialog ref={dialog} aria-label="Make a webhook" className="linkdialog">
        <form onSubmit={(e) => { e.preventDefault(); make.mutate(); }}>
          <h2>Make a webhook</h2>
          {make.data ? (
            <>
              <p className="sec">{make.data.tried.state === "done" ? `A test event arrived: answered ${make.data.tried.status}.` : `A test event did not arrive: ${make.data.tried.why}.`} Each event is signed with this secret. Copy it now; it is not shown again.</p>
              <textarea className="inp mono" aria-label="The secret" readOnly rows={2} value={make.data.made.secret} onFocus={(e) => e.target.select()} />
              <div className="acts"><Button onClick={() => void navigator.clipboard?.writeText(make.data.made.secret ?? "")}>Copy it</Button><Button variant="contained" onClick={() => dialog.current?.close()}>Done</Button></div>
            </>
          ) : (
            <>
              <label htmlFor="webhook-name">Name</label>
              <input id="webhook-name" className="inp" required pattern="[a-z0-9]+(-[a-z0-9]+)*" title="Lower-case letters, digits and dashes" value={name} onChange={(e) => setName(e.target.value)} />
              <label htmlFor="webhook-address">Address</label>
              <input id="webhook-address" className="inp" required placeholder="https://HOST/PATH" value={address} onChange={(e) => setAddress(e.target.value)} />
              <fieldset>
                <legend>Hears of (none chosen: everything)</legend>
                {ABOUT.map(([id, words]) => <label key={id}><input type="checkbox" checked={about.includes(id)} onChange={(e) => setAbout(e.target.checked ? [...about, id] : about.filter((one) => one !== id))} /> {words}</label>)}
              </fieldset>
              {make.isError && <ProblemBox error={make.error} />}
              <div className="acts"><Button onClick={() => dialog.current?.close()}>Cancel</Button><Button type="submit" variant="contained" disabled={make.isPending}>Make it and try it</Button></div>
            </>
          )}
        </form>
      </dialog>
    </>
  );
}
