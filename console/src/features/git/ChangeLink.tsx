/** A link changed without starting over: where it leads and how it is let in there. What is left empty stays. */
import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { send } from "../../api/client";
import { ProblemBox } from "../../shell/states";
import { Access, type AccessSaid, NO_ACCESS } from "./Access";
import { WAYS } from "./MakeLink";
import { type GitLink, gitLinks } from "./queries";

export function ChangeLink({ shelf, link }: { shelf: string; link: GitLink }) {
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [address, setAddress] = useState("");
  const [way, setWay] = useState("");
  const [access, setAccess] = useState<AccessSaid>(NO_ACCESS);
  const base = `shelves/${shelf}/git/links/${link.name}`;
  const change = useMutation({
    mutationFn: async () => {
      const said = Object.fromEntries(Object.entries(access).filter(([, value]) => value !== ""));
      await send<GitLink>("PATCH", base, { address, way, ...said });
      await send("POST", `${base}/test`);
    },
    onSuccess: () => dialog.current?.close(),
    onSettled: () => queries.invalidateQueries({ queryKey: gitLinks(shelf).queryKey }),
  });
  const open = () => {
    change.reset();
    setAddress(link.address);
    setWay(link.way);
    setAccess(NO_ACCESS);
    dialog.current?.showModal();
  };
  return (
    <>
      <button type="button" className="plainbtn" onClick={open}>
        Change the link
      </button>
      <dialog ref={dialog} aria-label={`Change ${link.name}`} className="linkdialog">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            change.mutate();
          }}
        >
          <h2>Change {link.name}</h2>
          <label htmlFor={`change-address-${link.name}`}>Address of the repository</label>
          <input id={`change-address-${link.name}`} className="inp" required value={address} onChange={(e) => setAddress(e.target.value)} />
          <label htmlFor={`change-way-${link.name}`}>Which way</label>
          <select id={`change-way-${link.name}`} className="inp" value={way} onChange={(e) => setWay(e.target.value)}>
            {WAYS.map(([id, words]) => (
              <option key={id} value={id}>
                {words}
              </option>
            ))}
          </select>
          <Access id={link.name} address={address} said={access} known={link} onSay={setAccess} />
          {change.error && <ProblemBox error={change.error} />}
          <div className="acts">
            <Button onClick={() => dialog.current?.close()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={change.isPending}>
              Change it and try it
            </Button>
          </div>
        </form>
      </dialog>
    </>
  );
}
