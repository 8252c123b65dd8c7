/** Tasks that commits are for; one of them with what it changed and where that has come to. */

import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../../api/client";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { useDone } from "../../shell/Done";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { tasks } from "./queries";
import { Task } from "./Task";

export function TasksPage() {
  const key = useShelfKey();
  const [chosen, setChosen] = useParam("task");
  const found = useInfiniteQuery(tasks(key));
  const first = found.data?.pages[0];
  const rows = found.data?.pages.flatMap((page) => page.items) ?? [];
  if (chosen) {
    return (
      <Page
        page="tasks"
        title={chosen}
        at="main"
        say={
          <>
            <i className="j">for the task</i> <b>{chosen}</b>
          </>
        }
      >
        <Task shelf={key} name={chosen} onBack={() => setChosen("")} />
      </Page>
    );
  }
  return (
    <Page
      page="tasks"
      title="Tasks"
      at="main"
      say={
        <>
          <i className="j">by</i> <b>task</b>
        </>
      }
    >
      <div className="line1">
        <h1>{rows.length ? `Commits are for ${found.hasNextPage ? "more than " : ""}${count(rows.length, "task")}.` : "Tasks"}</h1>
        <span className="end">{first && <Change key={first.pattern + first.address} shelf={key} now={first} />}</span>
      </div>
      {found.isPending && <Loading what="Reading the tasks" />}
      {found.isError && <ProblemBox error={found.error} />}
      {first && rows.length === 0 && (
        <Empty>No commit names a task. Say what ids look like, and they are found in summaries and descriptions.</Empty>
      )}
      {rows.length > 0 && (
        <section className="sheet scroll" aria-label="Tasks">
          <Table>
            <thead>
              <tr>
                <th>Task</th>
                <th className="num">Commits</th>
                <th>Newest</th>
                <th>Kept at</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.task}>
                  <td>
                    <TextAct onClick={() => setChosen(row.task)}>
                      <b>{row.task}</b>
                    </TextAct>
                  </td>
                  <td className="num">{row.commits}</td>
                  <td title={row.last}>{when(row.last)}</td>
                  <td>
                    {row.address ? (
                      <a href={row.address} rel="noreferrer" target="_blank">
                        {row.address}
                      </a>
                    ) : (
                      <span className="sec">nowhere yet</span>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      )}
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show older ones</TextAct>
        </p>
      )}
    </Page>
  );
}

function Change({ shelf, now }: { shelf: string; now: Schemas["TaskPage"] }) {
  const queries = useQueryClient();
  const dialog = useSheet();
  const [pattern, setPattern] = useState(now.pattern);
  const [address, setAddress] = useState(now.address);
  const done = useDone();
  const change = useMutation({
    mutationFn: () => answer(api.PATCH("/shelves/{shelf}/tasks", { params: { path: { shelf } }, body: { pattern, address } })),
    onSuccess: async () => {
      dialog.hide();
      await queries.invalidateQueries({ queryKey: ["shelf", shelf, "tasks"] });
      const was = { pattern: now.pattern, address: now.address };
      done({
        said: "How tasks are found is changed.",
        undo: () => answer(api.PATCH("/shelves/{shelf}/tasks", { params: { path: { shelf } }, body: was })),
      });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.show()}>
        How tasks are found
      </Button>
      <Sheet of={dialog} label="How tasks are found">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            change.mutate();
          }}
        >
          <h2>How tasks are found</h2>
          <Field
            id="task-pattern"
            label="What an id looks like (a regular expression)"
            mono
            placeholder="SK-[0-9]+"
            value={pattern}
            onChange={(e) => setPattern(e.target.value)}
          />
          <Field
            id="task-address"
            label={<>Where tasks are kept, with {"{task}"} for the id</>}
            mono
            placeholder="https://HOST/tasks/{task}"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
          {change.isError && <ProblemBox error={change.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={change.isPending}>
              Find tasks
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
