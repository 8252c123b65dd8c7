/** A link changed without starting over: where it leads and how it is let in there. What is left empty stays. */

import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { ProblemBox } from "../../shell/states";
import { Access, type AccessSaid, NO_ACCESS } from "./Access";
import { type GitLink, gitLinks, WAYS, type Way, wayOf } from "./queries";

export function ChangeLink({ shelf, link }: { shelf: string; link: GitLink }) {
  const queries = useQueryClient();
  const dialog = useSheet();
  const [address, setAddress] = useState("");
  const [way, setWay] = useState<Way>("both");
  const [access, setAccess] = useState<AccessSaid>(NO_ACCESS);
  const params = { path: { shelf, link: link.name } };
  const change = useMutation({
    mutationFn: async () => {
      const said = Object.fromEntries(Object.entries(access).filter(([, value]) => value !== ""));
      await answer(api.PATCH("/shelves/{shelf}/git/links/{link}", { params, body: { address, way, ...said } }));
      await answer(api.POST("/shelves/{shelf}/git/links/{link}/test", { params }));
    },
    onSuccess: () => dialog.hide(),
    onSettled: () => queries.invalidateQueries({ queryKey: gitLinks(shelf).queryKey }),
  });
  const open = () => {
    change.reset();
    setAddress(link.address);
    setWay(wayOf(link.way));
    setAccess(NO_ACCESS);
    dialog.show();
  };
  return (
    <>
      <TextAct onClick={open}>Change the link</TextAct>
      <Sheet of={dialog} label={`Change ${link.name}`}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            change.mutate();
          }}
        >
          <h2>Change {link.name}</h2>
          <Field
            id={`change-address-${link.name}`}
            label="Address of the repository"
            required
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
          <Choice id={`change-way-${link.name}`} label="Which way" value={way} onChange={(e) => setWay(wayOf(e.target.value))}>
            {WAYS.map(([id, words]) => (
              <option key={id} value={id}>
                {words}
              </option>
            ))}
          </Choice>
          <Access id={link.name} address={address} said={access} known={link} onSay={setAccess} />
          {change.error && <ProblemBox error={change.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={change.isPending}>
              Change it and try it
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
