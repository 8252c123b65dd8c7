/** How long a shelf keeps what was saved and not committed; its owner may change that. */

import { Button } from "@mui/material";
import { queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { shelf as shelfQuery } from "../../api/queries";
import { count } from "../../marks/words";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useDone } from "../../shell/Done";
import { ProblemBox } from "../../shell/states";

type Rule = Schemas["DraftKeeping"];

const keeping = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "drafts", "keeping"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/drafts/keeping", { params: { path: { shelf: key } } })),
  });

const span = (days: number | null | undefined) => (days ? `for ${count(days, "day")}` : "as long as the shelf");

export function Keeping({ shelf }: { shelf: string }) {
  const found = useQuery(keeping(shelf));
  const info = useQuery(shelfQuery(shelf));
  const rule = found.data;
  if (!rule) return null;
  const going = rule.due_points + rule.due_changes > 0;
  return (
    <section aria-label="How long saved work is kept">
      <p className="foot">
        Pending changes are kept {span(rule.drafts)}
        {rule.drafts ? " after they were last saved" : ""}, save points that no longer count {span(rule.save_points)}.
        {going &&
          ` Within the hour ${count(rule.due_points, "save point")} will be removed and ${count(rule.due_changes, "pending change")} discarded.`}{" "}
        {info.data?.role === "owner" && <Change key={`${rule.drafts} ${rule.save_points}`} shelf={shelf} now={rule} />}
      </p>
    </section>
  );
}

function Change({ shelf, now }: { shelf: string; now: Rule }) {
  const queries = useQueryClient();
  const sheet = useSheet();
  const [drafts, setDrafts] = useState(String(now.drafts ?? ""));
  const [points, setPoints] = useState(String(now.save_points ?? ""));
  const done = useDone();
  const send = (body: { drafts: number | null; save_points: number | null }) =>
    answer(api.PATCH("/shelves/{shelf}/drafts/keeping", { params: { path: { shelf } }, body }));
  const change = useMutation({
    mutationFn: () => send({ drafts: drafts ? Number(drafts) : null, save_points: points ? Number(points) : null }),
    onSuccess: async () => {
      sheet.hide();
      await queries.invalidateQueries({ queryKey: ["shelf", shelf, "drafts"] });
      const was = { drafts: now.drafts, save_points: now.save_points };
      done({ said: "How long saved work is kept is changed.", undo: () => send(was) });
    },
  });
  return (
    <>
      <Button onClick={() => sheet.show()}>Change how long</Button>
      <Sheet of={sheet} label="How long saved work is kept">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            change.mutate();
          }}
        >
          <h2>How long saved work is kept</h2>
          <p className="sec">
            Left empty, it is kept as long as the shelf. Changes whose time is over are discarded, and are save points from then on.
          </p>
          <Field
            id="keep-drafts"
            label="Pending changes, in days after they were last saved"
            type="number"
            min={7}
            max={3650}
            value={drafts}
            onChange={(e) => setDrafts(e.target.value)}
          />
          <Field
            id="keep-points"
            label="Save points that no longer count, in days"
            type="number"
            min={1}
            max={3650}
            value={points}
            onChange={(e) => setPoints(e.target.value)}
          />
          {change.isError && <ProblemBox error={change.error} />}
          <div className="acts">
            <Button onClick={() => sheet.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={change.isPending}>
              Save
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
