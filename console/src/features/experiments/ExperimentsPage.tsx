import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link, useNavigate } from "react-router";
import { answer, api } from "../../api/client";
import { shelf } from "../../api/queries";
import { count, when } from "../../marks/words";
import { TextAct, WordSwitch } from "../../parts/Acts";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
import { Table } from "../../parts/Table";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { experiments } from "./queries";

const STATES = ["all", "open", "adopted", "abandoned"];

export function ExperimentsPage() {
  const key = useShelfKey();
  const [state, setState] = useParam("state", "all");
  const [typed, setTyped] = useState("");
  const words = useDeferredValue(typed.trim());
  const found = useInfiniteQuery(experiments(key, state, words));
  const first = found.data?.pages[0];
  const rows = found.data?.pages.flatMap((page) => page.items);
  const open = state === "all" && first ? `, ${first.open || "none"} open` : "";
  const what = state === "all" ? "experiment" : `${state} experiment`;
  return (
    <Page page="experiments" title="Experiments" at="main" say={<i className="j">experiments</i>}>
      <div className="line1">
        <h1>{first ? `${count(first.total, what)}${open}.` : "Experiments"}</h1>
        <WordSwitch label="State" words={STATES} value={state} onChoose={setState} />
        <Field
          type="search"
          placeholder="Search questions and branches"
          aria-label="Narrow the list"
          width={260}
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <span className="end">
          <Begin />
        </span>
      </div>
      {found.isPending && <Loading what="Reading the experiments" />}
      {found.isError && <ProblemBox error={found.error} />}
      {rows?.length === 0 && words && <Empty>No experiment has these words in its question, key or branch.</Empty>}
      {rows?.length === 0 && !words && (
        <Empty>
          An experiment asks a question and tries it on a branch: each run keeps what it read, its parameters and what it measured, so that
          runs can be compared, and the answer adopted or abandoned.
        </Empty>
      )}
      {rows && rows.length > 0 && (
        <section className="sheet scroll" aria-label="Experiments">
          <Table>
            <thead>
              <tr>
                <th>Question</th>
                <th>State</th>
                <th className="num">Runs</th>
                <th>Branch</th>
                <th>Asked by</th>
                <th>When</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((e) => (
                <tr key={e.key}>
                  <td className="wrap" style={{ minWidth: 380 }}>
                    <Link to={`/s/${key}/experiments/${e.key}`}>
                      <b>{e.question}</b>
                    </Link>
                    <span className="sm sec" style={{ display: "block" }}>
                      {e.reason || e.answer}
                    </span>
                  </td>
                  <td>
                    {e.state}
                    {e.proposal ? (
                      <>
                        {" "}
                        <Link to={`/s/${key}/proposals/${e.proposal}`}>proposal {e.proposal}</Link>
                      </>
                    ) : (
                      ""
                    )}
                  </td>
                  <td className="num">{e.runs_made}</td>
                  <td className="mono">{e.branch}</td>
                  <td>{e.created_by}</td>
                  <td>{when(e.created)}</td>
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

function Begin() {
  const key = useShelfKey();
  const go = useNavigate();
  const queries = useQueryClient();
  const info = useQuery(shelf(key));
  const dialog = useSheet();
  const [question, setQuestion] = useState("");
  const [branch, setBranch] = useState("");
  const [primary, setPrimary] = useState("");
  const begin = useMutation({
    mutationFn: () =>
      answer(api.POST("/shelves/{shelf}/experiments", { params: { path: { shelf: key } }, body: { question, branch, primary } })),
    onSuccess: async (made) => {
      dialog.hide();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      await go(`/s/${key}/experiments/${made.key}`);
    },
  });
  if (info.data?.role === "reader") return null;
  return (
    <>
      <Button
        variant="contained"
        onClick={() => {
          begin.reset();
          dialog.show();
        }}
      >
        Begin an experiment
      </Button>
      <Sheet of={dialog} label="Begin an experiment">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            begin.mutate();
          }}
        >
          <h2>Begin an experiment</h2>
          <Field
            id="question"
            label="The question"
            rows={2}
            required
            maxLength={300}
            placeholder="Does …?"
            value={question}
            onChange={(e) => setQuestion(e.target.value)}
          />
          <Field
            id="experiment-metric"
            label="The metric that answers it, if you know"
            value={primary}
            onChange={(e) => setPrimary(e.target.value)}
          />
          <Field
            id="experiment-branch"
            label="Branch (leave empty to create one)"
            value={branch}
            onChange={(e) => setBranch(e.target.value)}
          />
          {begin.isError && <ProblemBox error={begin.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={begin.isPending}>
              Begin it
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
