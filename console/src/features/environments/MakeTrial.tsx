import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";
import { usePlace } from "./place";
import { TagChoice } from "./TagChoice";

export function MakeTrial({ newest, onMade }: { newest: string; onMade: (environment: string, job: string) => void }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
  const [name, setName] = useState("");
  const [tag, setTag] = useState("");
  const [days, setDays] = useState("7");
  const place = usePlace(name, dialog.shown);
  const wanted = tag || newest;
  const make = useMutation({
    mutationFn: async () => {
      const made = await answer(
        api.POST("/shelves/{shelf}/environments/trials", {
          params: { path: { shelf: key } },
          body: {
            name,
            tag: wanted,
            days: Number(days),
            ...place.body,
          },
        }),
      );
      return answer(
        api.POST("/shelves/{shelf}/environments/{name}/promote", {
          params: { path: { shelf: key, name: made.name } },
          body: {
            tag: wanted,
            reason: "to try it",
          },
        }),
      );
    },
    onSuccess: async (job) => {
      dialog.hide();
      onMade(name, job.job);
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.show()}>
        New trial environment
      </Button>
      <Sheet of={dialog} label="New trial environment">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>New trial environment</h2>
          <p className="sec sm">A private environment for trying a tag or your draft. It is removed automatically.</p>
          <Field id="trial-name" label="Name" required value={name} onChange={(e) => setName(e.target.value)} />
          <TagChoice id="trial-tag" label="Tag" value={wanted} onChoose={setTag} />
          <Field
            id="trial-days"
            label="Days it lasts"
            type="number"
            min={1}
            max={60}
            value={days}
            onChange={(e) => setDays(e.target.value)}
          />
          {place.fields("trial")}
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained">
              Make it, and put the tag there
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
