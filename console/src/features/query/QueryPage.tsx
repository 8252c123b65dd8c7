/** SQL over any versions of tables: an editor, the rows as a grid or as bars, and queries saved as artifacts. */
import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useState } from "react";
import { Link } from "react-router";
import { answer, api, putFile, type Schemas, save } from "../../api/client";
import { count } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { later } from "../../parts/later";
import { Sheet, useSheet } from "../../parts/Sheet";
import { useDone } from "../../shell/Done";
import { Page, useShelfKey } from "../../shell/Page";
import { isReadOnly, RefChooser } from "../../shell/RefChooser";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam, useSetParams } from "../../shell/useRefParam";
import { barsOf, numericColumns, savedPath } from "./chart";

const SqlEditor = later(() => import("./SqlEditor"), <Loading what="Opening the editor" />);
const ResultGrid = later(() => import("./ResultGrid"), <Loading what="Laying out the rows" />);
const ResultPlot = later(() => import("./ResultPlot"), <Loading what="Drawing the bars" />);
const SHOWN = 500;
const TABULAR = ["dataset", "database", "spreadsheet"];

export function QueryPage() {
  const key = useShelfKey();
  const [at, setAt] = useParam("ref", "main");
  const [asked] = useParam("sql");
  const setParams = useSetParams();
  const [saved] = useParam("saved");
  const [text, setText] = useState(asked);
  const [from, setFrom] = useState(asked);
  // Back and forward in the browser bring an earlier query back into the editor.
  if (from !== asked) {
    setFrom(asked);
    setText(asked);
  }
  const tables = useQuery({
    queryKey: ["shelf", key, "tables", at],
    queryFn: async () => {
      const kinds = TABULAR.map((kind) =>
        answer(
          api.GET("/shelves/{shelf}/artifacts", {
            params: { path: { shelf: key }, query: { ref: at, kind, sort: "path", start: 0, limit: 200 } },
          }),
        ),
      );
      return (await Promise.all(kinds)).flatMap((page) => page.items.map((one) => one.path));
    },
  });
  const found = useQuery({
    queryKey: ["shelf", key, "query", at, asked],
    queryFn: () =>
      answer(api.GET("/shelves/{shelf}/query", { params: { path: { shelf: key }, query: { sql: asked, ref: at, limit: SHOWN } } })),
    enabled: asked !== "",
    retry: false,
  });
  const opened = useQuery({
    queryKey: ["shelf", key, "text", saved, at],
    queryFn: () => answer(api.GET("/shelves/{shelf}/artifact/text", { params: { path: { shelf: key }, query: { path: saved, ref: at } } })),
    enabled: saved !== "" && asked === "",
  });
  useEffect(() => {
    if (opened.data?.text) setText(opened.data.text.trim());
  }, [opened.data]);
  const { refetch } = found;
  const run = useCallback(() => {
    const wanted = text.trim();
    if (wanted === asked) void refetch();
    else setParams({ sql: wanted });
  }, [text, asked, setParams, refetch]);
  const saving = useMutation({ mutationFn: () => save(`shelves/${key}/query/file`, { sql: asked, ref: at, form: "parquet" }) });
  const first = tables.data?.[0];
  const say = (
    <>
      <i className="j">query at</i> <RefChooser shelf={key} value={at} label="State asked" onChoose={setAt} />
    </>
  );
  return (
    <Page page="query" title={`Query at ${at}`} at={at} say={say}>
      <section className="sheet" aria-label="Query" style={{ marginTop: 10 }}>
        <div className="ph">
          <h2 className="h3">Query</h2>
          <span className="cap">
            tables are artifacts in quotes, <code>'PATH@REF'</code>; lists: commits, artifacts, versions, findings, runs
          </span>
        </div>
        <SqlEditor text={text} tables={tables.data ?? []} onChange={setText} onRun={run} />
        <div className="line1 pad">
          <Button variant="contained" onClick={run} disabled={text.trim() === "" || found.isFetching}>
            {found.isFetching ? "Running" : "Run"}
          </Button>
          <span className="cap">Ctrl and Enter</span>
          <span className="end">
            {asked && (
              <Button variant="outlined" disabled={saving.isPending} onClick={() => saving.mutate()}>
                Download as Parquet
              </Button>
            )}
            {!isReadOnly(at) && <SaveQuery shelf={key} branch={at} sql={text} />}
          </span>
        </div>
      </section>
      {!asked && !saved && first && (
        <p className="sec">
          For example{" "}
          <TextAct onClick={() => setText(`SELECT *\nFROM '${first.replaceAll("'", "''")}'\nLIMIT 20`)}>the first rows of {first}</TextAct>{" "}
          or{" "}
          <TextAct
            onClick={() =>
              setText("SELECT author, count(*) AS commits, max(recorded) AS newest\nFROM commits\nGROUP BY author\nORDER BY commits DESC")
            }
          >
            who committed how often
          </TextAct>
          .
        </p>
      )}
      {saving.isError && <ProblemBox error={saving.error} />}
      {opened.isError && <ProblemBox error={opened.error} />}
      {asked && found.isPending && <Loading what="Running the query" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && !found.isError && <Result answer={found.data} shelf={key} />}
    </Page>
  );
}

function Result({ answer: told, shelf }: { answer: Schemas["QueryAnswer"]; shelf: string }) {
  const [as, setAs] = useParam("as", "table");
  const [chosen, setChosen] = useParam("bars");
  const numbers = numericColumns(told);
  const value = numbers.includes(chosen) ? chosen : (numbers[0] ?? "");
  const bars = as === "bars" ? barsOf(told, value) : null;
  return (
    <section className="sheet rowsgrid" aria-label="Result" style={{ marginTop: 10 }}>
      <div className="ph">
        <h2 className="h3">{told.more ? `The first ${count(told.rows.length, "row")} of more` : count(told.rows.length, "row")}</h2>
        <span className="cap">
          {(told.tables ?? [])
            .filter((one) => one.path)
            .map((one, n) => (
              <span key={one.name}>
                {n > 0 && ", "}
                <Link to={`/s/${shelf}/artifact?${new URLSearchParams({ path: one.path, ref: one.ref })}`}>{one.path}</Link> at {one.ref}
              </span>
            ))}
        </span>
        <span className="r">
          {as === "bars" && numbers.length > 1 && (
            <Choice aria-label="Length of the bars" value={value} onChange={(e) => setChosen(e.target.value)}>
              {numbers.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </Choice>
          )}
          <Switch label="Show the rows as">
            <Part pressed={as !== "bars"} onClick={() => setAs("table")}>
              Table
            </Part>
            <Part pressed={as === "bars"} onClick={() => setAs("bars")}>
              Bars
            </Part>
          </Switch>
        </span>
      </div>
      {as !== "bars" && <ResultGrid answer={told} />}
      {as === "bars" && (bars ? <ResultPlot bars={bars} /> : <p className="empty">No column of these rows holds numbers.</p>)}
    </section>
  );
}

function SaveQuery({ shelf, branch, sql }: { shelf: string; branch: string; sql: string }) {
  const sheet = useSheet();
  const queries = useQueryClient();
  const done = useDone();
  const [name, setName] = useState("");
  const save = useMutation({
    mutationFn: async () => {
      const path = savedPath(name);
      const content = await putFile(shelf, new Blob([`${sql.trim()}\n`]));
      const entries = [{ path, content: content.id, moved_from: "" }];
      await answer(api.POST("/shelves/{shelf}/drafts", { params: { path: { shelf } }, body: { branch, entries } }));
      return path;
    },
    onSuccess: (path) => {
      sheet.hide();
      setName("");
      done({ said: `Saved in your draft as ${path}.`, to: `/s/${shelf}/pending?${new URLSearchParams({ ref: branch })}` });
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["shelf", shelf] }),
  });
  return (
    <>
      <Button variant="outlined" onClick={sheet.show} disabled={sql.trim() === ""}>
        Save the query
      </Button>
      <Sheet of={sheet} label="Save the query">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate();
          }}
        >
          <h2>Save the query</h2>
          <p className="sec">It becomes an artifact of {branch}, pending until you commit it.</p>
          <div className="fieldrow">
            <Field id="query-name" label="Name" required value={name} onChange={(e) => setName(e.target.value)} />
          </div>
          {name.trim() && <p className="mono cap">{savedPath(name)}</p>}
          {save.isError && <ProblemBox error={save.error} />}
          <div className="acts">
            <Button type="submit" variant="contained" disabled={save.isPending}>
              Save
            </Button>
            <Button onClick={sheet.hide}>Cancel</Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
