import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { CheckField } from "../../parts/CheckField";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import { usePlace } from "./place";

export function MakeEnvironment() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
  const [name, setName] = useState("");
  const [route, setRoute] = useState("main");
  const [fed, setFed] = useState("");
  const [earlier, setEarlier] = useState(false);
  const place = usePlace(name, dialog.shown);
  const make = useMutation({
    mutationFn: () =>
      answer(
        api.POST("/shelves/{shelf}/environments", {
          params: { path: { shelf: key } },
          body: {
            name,
            route,
            fed_from: fed,
            earlier_first: earlier,
            ...place.body,
          },
        }),
      ),
    onSuccess: async () => {
      dialog.hide();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.show()}>
        Make an environment
      </Button>
      <Sheet of={dialog} label="Make an environment">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>Make an environment</h2>
          <Field id="env-name" label="Name" required value={name} onChange={(e) => setName(e.target.value)} />
          <Field id="env-route" label="Route" required value={route} onChange={(e) => setRoute(e.target.value)} />
          {place.fields("env")}
          <Field id="env-fed" label="Fed from this branch only (empty: any)" value={fed} onChange={(e) => setFed(e.target.value)} />
          <CheckField checked={earlier} onChange={(e) => setEarlier(e.target.checked)}>
            A tag must have run in the environment before it
          </CheckField>
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained">
              Make the environment
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
