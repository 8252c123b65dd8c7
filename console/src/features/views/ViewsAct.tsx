/** Saved views of the shelf: the page that is open can be saved under a name, with all it is narrowed to. */
import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation } from "react-router";
import { answer, api } from "../../api/client";
import { TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { Sheet, type SheetState, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { useDone } from "../../shell/Done";
import { ProblemBox } from "../../shell/states";
import { type SavedView, savedViews } from "./queries";
import { viewWords } from "./words";

export function ViewsAct({ shelf }: { shelf: string }) {
  const sheet = useSheet();
  return (
    <>
      <TextAct onClick={sheet.show}>Views</TextAct>
      <Sheet of={sheet} label="Saved views" wide>
        {sheet.shown && <Views shelf={shelf} sheet={sheet} />}
      </Sheet>
    </>
  );
}

function Views({ shelf, sheet }: { shelf: string; sheet: SheetState }) {
  const { pathname, search } = useLocation();
  const address = pathname.replace(/^\/s\/[^/]+/, "") + search;
  const queries = useQueryClient();
  const done = useDone();
  const found = useQuery(savedViews(shelf));
  const [name, setName] = useState("");
  const [shared, setShared] = useState(false);
  const known = (views: SavedView[]) => queries.setQueryData(savedViews(shelf).queryKey, views);
  const keep = (view: Pick<SavedView, "name" | "address" | "shared">) =>
    answer(
      api.PUT("/shelves/{shelf}/views", {
        params: { path: { shelf } },
        body: { name: view.name, address: view.address, shared: view.shared },
      }),
    );
  const drop = (view: string) => answer(api.DELETE("/shelves/{shelf}/views", { params: { path: { shelf }, query: { name: view } } }));
  const before = found.data?.find((one) => one.own && one.name === name.trim());
  const save = useMutation({
    mutationFn: () => keep({ name, address, shared }),
    onSuccess: (views) => {
      known(views);
      done({ said: `The view ${name} is saved.`, undo: () => (before ? keep(before) : drop(name)) });
      sheet.hide();
    },
  });
  const remove = useMutation({
    mutationFn: (view: SavedView) => drop(view.name),
    onSuccess: (views, view) => {
      known(views);
      done({ said: `The view ${view.name} is removed.`, undo: () => keep(view) });
    },
  });
  return (
    <>
      <h2>Saved views</h2>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <p className="sec sm">
          This page: <b>{viewWords(address)}</b>
        </p>
        <div className="line1">
          <Field
            label="Save it as"
            required
            wide={false}
            width={280}
            maxLength={100}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Button type="submit" variant="contained" disabled={save.isPending || !found.data}>
            {before ? "Replace the view" : "Save the view"}
          </Button>
        </div>
        <CheckField checked={shared} onChange={(e) => setShared(e.target.checked)}>
          Share it: all who see the shelf see it
        </CheckField>
        {save.isError && <ProblemBox error={save.error} />}
      </form>
      {found.isError && <ProblemBox error={found.error} />}
      {remove.isError && <ProblemBox error={remove.error} />}
      {found.data && found.data.length > 0 && (
        <Table>
          <caption className="sr">Saved views</caption>
          <thead>
            <tr>
              <th>View</th>
              <th>Shows</th>
              <th>Whose</th>
              <th>
                <span className="sr">Act</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {found.data.map((one) => (
              <tr key={`${one.person} ${one.name}`}>
                <td>
                  <Link to={`/s/${shelf}${one.address}`} onClick={sheet.hide}>
                    {one.name}
                  </Link>
                </td>
                <td className="sec">{viewWords(one.address)}</td>
                <td className="sec">{one.own ? (one.shared ? "yours, shared" : "yours") : one.person}</td>
                <td>
                  {one.own && (
                    <TextAct aria-label={`Remove the view ${one.name}`} onClick={() => remove.mutate(one)}>
                      Remove
                    </TextAct>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <div className="acts">
        <Button onClick={sheet.hide}>Close</Button>
      </div>
    </>
  );
}
