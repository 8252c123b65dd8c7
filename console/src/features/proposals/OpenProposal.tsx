/** Asking that a branch be merged. */

import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { answer, api } from "../../api/client";
import { everyBranch, shelf } from "../../api/queries";
import { count } from "../../marks/words";
import { CheckField } from "../../parts/CheckField";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useMe, useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { members } from "../people/queries";

export function OpenProposal() {
  const key = useShelfKey();
  const me = useMe();
  const go = useNavigate();
  const queries = useQueryClient();
  const dialog = useSheet();
  const info = useQuery(shelf(key));
  const people = useQuery(members(key));
  const [title, setTitle] = useState("");
  const [description, setDescription] = useState("");
  const [source, setSource] = useParam("propose");
  const lines = useQuery({ ...everyBranch(key), enabled: dialog.shown || source !== "" });
  const [chosen, setChosen] = useState(source);
  const [target, setTarget] = useState("");
  const [asked, setAsked] = useState<string[]>([]);
  const [deleteSource, setDeleteSource] = useState(false);
  const main = info.data?.main_branch ?? "main";
  // Asked for from another page, as the address says.
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    if (source && lines.data) dialog.show();
  }, [source, lines.data !== undefined]);
  const ahead = (lines.data ?? []).filter((b) => !b.main);
  const from = chosen || ahead[0]?.name || "";
  const open = useMutation({
    mutationFn: () =>
      answer(
        api.POST("/shelves/{shelf}/proposals", {
          params: { path: { shelf: key } },
          body: {
            title,
            description,
            source: from,
            target: target || main,
            reviewers: asked,
            delete_source: deleteSource,
          },
        }),
      ),
    onSuccess: async (made) => {
      dialog.hide();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      await go(`/s/${key}/proposals/${made.number}`);
    },
  });
  if (info.data?.role === "reader") return null;
  return (
    <>
      <Button
        variant="contained"
        disabled={(info.data?.branches ?? 0) < 2}
        onClick={() => {
          open.reset();
          dialog.show();
        }}
      >
        Propose a branch
      </Button>
      <Sheet of={dialog} label="Propose a branch" onClose={() => source && setSource("")}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            open.mutate();
          }}
        >
          <h2>Propose a branch</h2>
          <Choice id="proposal-source" label="Branch" value={from} onChange={(e) => setChosen(e.target.value)}>
            {ahead.map((b) => (
              <option key={b.name} value={b.name}>
                {b.name}, {count(b.ahead, "commit")} ahead
              </option>
            ))}
          </Choice>
          <Choice id="proposal-target" label="Merge into" value={target || main} onChange={(e) => setTarget(e.target.value)}>
            {lines.data
              ?.filter((b) => b.name !== from)
              .map((b) => (
                <option key={b.name}>{b.name}</option>
              ))}
          </Choice>
          <Field
            id="proposal-title"
            label="Title: what changes, in one line"
            required
            maxLength={300}
            value={title}
            onChange={(e) => setTitle(e.target.value)}
          />
          <Field
            id="proposal-description"
            label="Description"
            rows={3}
            value={description}
            onChange={(e) => setDescription(e.target.value)}
          />
          <fieldset style={{ border: 0, marginTop: 10 }}>
            <legend className="sm sec">Reviewers</legend>
            {people.data
              ?.filter((m) => m.person !== me && m.role !== "reader")
              .map((m) => (
                <CheckField
                  key={m.person}
                  checked={asked.includes(m.person)}
                  onChange={(e) => setAsked(e.target.checked ? [...asked, m.person] : asked.filter((a) => a !== m.person))}
                >
                  {m.full_name}, {m.role}
                </CheckField>
              ))}
          </fieldset>
          <CheckField checked={deleteSource} onChange={(e) => setDeleteSource(e.target.checked)}>
            Delete the branch after merging
          </CheckField>
          {lines.isError && <ProblemBox error={lines.error} />}
          {open.isError && <ProblemBox error={open.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={open.isPending || !from}>
              Open the proposal
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
