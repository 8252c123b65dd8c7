/** Asking that a branch be merged. */
import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { send } from "../../api/client";
import { branches, shelf } from "../../api/queries";
import { count } from "../../marks/words";
import { useMe, useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { members } from "../people/queries";
import type { Proposal } from "./queries";

export function OpenProposal() {
  const key = useShelfKey();
  const me = useMe();
  const go = useNavigate();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const info = useQuery(shelf(key));
  const lines = useQuery(branches(key));
  const people = useQuery(members(key));
  const [title, setTitle] = useState("");
  const [description, setDescription] = useState("");
  const [source, setSource] = useParam("propose");
  const [chosen, setChosen] = useState(source);
  const [target, setTarget] = useState("");
  const [asked, setAsked] = useState<string[]>([]);
  const [deleteSource, setDeleteSource] = useState(false);
  const main = info.data?.main_branch ?? "main";
  // Asked for from another page, as the address says.
  useEffect(() => {
    if (source && lines.data) dialog.current?.showModal();
  }, [source, lines.data !== undefined]);
  const ahead = (lines.data ?? []).filter((b) => !b.main);
  const from = chosen || ahead[0]?.name || "";
  const open = useMutation({
    mutationFn: () =>
      send<Proposal>("POST", `shelves/${key}/proposals`, {
        title,
        description,
        source: from,
        target: target || main,
        reviewers: asked,
        delete_source: deleteSource,
      }),
    onSuccess: async (made) => {
      dialog.current?.close();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      await go(`/s/${key}/proposals/${made.number}`);
    },
  });
  if (info.data?.role === "reader") return null;
  return (
    <>
      <Button
        variant="contained"
        disabled={ahead.length === 0}
        onClick={() => {
          open.reset();
          dialog.current?.showModal();
        }}
      >
        Propose a branch
      </Button>
      <dialog ref={dialog} aria-label="Propose a branch" onClose={() => source && setSource("")}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            open.mutate();
          }}
        >
          <h2>Propose a branch</h2>
          <label htmlFor="proposal-source">Branch</label>
          <select id="proposal-source" className="inp" value={from} onChange={(e) => setChosen(e.target.value)}>
            {ahead.map((b) => (
              <option key={b.name} value={b.name}>
                {b.name}, {count(b.ahead, "commit")} ahead
              </option>
            ))}
          </select>
          <label htmlFor="proposal-target">Merge into</label>
          <select id="proposal-target" className="inp" value={target || main} onChange={(e) => setTarget(e.target.value)}>
            {lines.data
              ?.filter((b) => b.name !== from)
              .map((b) => (
                <option key={b.name}>{b.name}</option>
              ))}
          </select>
          <label htmlFor="proposal-title">Title: what changes, in one line</label>
          <input id="proposal-title" className="inp" required maxLength={300} value={title} onChange={(e) => setTitle(e.target.value)} />
          <label htmlFor="proposal-description">Description</label>
          <textarea
            id="proposal-description"
            className="inp"
            rows={3}
            value={description}
            onChange={(e) => setDescription(e.target.value)}
          />
          <fieldset style={{ border: 0, marginTop: 10 }}>
            <legend className="sm sec">Reviewers</legend>
            {people.data
              ?.filter((m) => m.person !== me && m.role !== "reader")
              .map((m) => (
                <label key={m.person}>
                  <input
                    type="checkbox"
                    checked={asked.includes(m.person)}
                    onChange={(e) => setAsked(e.target.checked ? [...asked, m.person] : asked.filter((a) => a !== m.person))}
                  />{" "}
                  {m.full_name}, {m.role}
                </label>
              ))}
          </fieldset>
          <label>
            <input type="checkbox" checked={deleteSource} onChange={(e) => setDeleteSource(e.target.checked)} /> Delete the branch after
            merging
          </label>
          {open.isError && <ProblemBox error={open.error} />}
          <div className="acts">
            <Button onClick={() => dialog.current?.close()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={open.isPending || !from}>
              Open the proposal
            </Button>
          </div>
        </form>
      </dialog>
    </>
  );
}
