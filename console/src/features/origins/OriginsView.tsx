/** Who set each part of an artifact, when and why; beside it, the forms the chosen one had before. */

import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { origins } from "../../api/queries";
import { count, group, when } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { FormsPanel } from "./FormsPanel";
import { LineList } from "./LineList";
import { type Entry, entries, hidden, isShown, type Origins, people, TONES, whole } from "./model";
import { PartList } from "./PartList";
import { TableOrigins } from "./TableOrigins";

interface Asked {
  shelf: string;
  path: string;
  at: string;
  version: string | undefined;
}

export function OriginsView(asked: Asked) {
  const { shelf, path, at, version } = asked;
  const [form, setForm] = useParam("form");
  const [cosmetic, setCosmetic] = useParam("cosmetic");
  const [part, setPart] = useParam("part");
  const [line, setLine] = useParam("line");
  const [row, setRow] = useParam("row");
  const [sought, setSought] = useState({ words: "", who: "", since: "" });
  const found = useInfiniteQuery(origins(shelf, path, at, version, form));
  if (found.isPending) return <Loading what="Reading who set what" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const told = whole(found.data.pages);
  if (!told) return null;
  const count_ = hidden(told);
  const isText = told.form === "lines";
  const of: Record<string, string> | null = isText
    ? line
      ? { line }
      : null
    : told.form === "rows"
      ? row
        ? rowAsked(row)
        : null
      : part
        ? { part }
        : null;
  const list = entries(told, cosmetic === "on", part).filter((entry) => isShown(entry, sought.words, sought.who, sought.since));
  return (
    <>
      <div className="originsbar">
        <b>{sentence(told)}</b>
        {told.kind !== "dataset" && told.kind !== "database" && told.form !== "whole" && (
          <Switch label="By">
            <Part pressed={!isText} onClick={() => setForm(form === "lines" ? "" : "parts")}>
              Parts
            </Part>
            <Part pressed={isText} onClick={() => setForm("lines")}>
              Lines
            </Part>
          </Switch>
        )}
        {told.form !== "rows" && told.form !== "whole" && (
          <>
            <Field
              id="origins-words"
              label="Part, person or commit"
              placeholder={isText ? "Person or commit" : "Part, person or commit"}
              value={sought.words}
              onChange={(e) => setSought({ ...sought, words: e.target.value })}
            />
            <Choice id="origins-who" label="Who" value={sought.who} onChange={(e) => setSought({ ...sought, who: e.target.value })}>
              <option value="">Who: any</option>
              {people(told).map((name) => (
                <option key={name}>{name}</option>
              ))}
            </Choice>
            <Choice
              id="origins-since"
              label="Set since"
              value={sought.since}
              onChange={(e) => setSought({ ...sought, since: e.target.value })}
            >
              <option value="">Set since: any time</option>
              {TONES.map(
                (name, n) =>
                  n > 0 && (
                    <option key={name} value={n}>
                      {name}
                    </option>
                  ),
              )}
            </Choice>
            <CheckField checked={cosmetic === "on"} onChange={(e) => setCosmetic(e.target.checked ? "on" : "")}>
              {isText ? "Spaces" : "Cosmetic changes"}{" "}
              <span className="mut">{cosmetic === "on" ? `${count_} shown` : `${count_} hidden`}</span>
            </CheckField>
            <span className="tones" aria-hidden="true">
              Last set{" "}
              {[3, 2, 1, 0].map((n) => (
                <span key={n}>
                  <i className={`tone${n}`} /> {TONES[n]}
                </span>
              ))}
            </span>
          </>
        )}
      </div>
      {told.note && <p className="cap">{told.note}</p>}
      <div className="cols-origins">
        {told.form === "rows" ? (
          <TableOrigins told={told} onRow={setRow} row={row} />
        ) : isText ? (
          <LineList asked={asked} told={told} chosen={line} cosmetic={cosmetic === "on"} sought={sought} onChoose={setLine} />
        ) : told.form === "whole" ? (
          <Whole told={told} />
        ) : (
          <PartList told={told} list={list} chosen={part} onChoose={(entry: Entry) => setPart(entry.of.part ?? "")} />
        )}
        {of ? (
          <FormsPanel {...asked} of={of} versions={told.versions} />
        ) : (
          <section className="sheet" aria-label="One part over time">
            <div className="ph">
              <h2 className="h3">{told.form === "rows" ? "One row over time" : isText ? "One line over time" : "One part over time"}</h2>
            </div>
            <p className="pad mut">
              {told.form === "rows"
                ? "Give the key of a row to see what each commit did to it."
                : told.form === "whole"
                  ? "It has no parts that can be followed."
                  : "Choose one on the left to see what each commit did to it."}
            </p>
          </section>
        )}
      </div>
      {found.hasNextPage && (
        <p className="foot">
          <TextAct onClick={() => void found.fetchNextPage()}>Show more of {group(told.total)}</TextAct>
        </p>
      )}
      <p className="foot">
        Through {count(told.versions, "version")}, {count(told.moves, "move")} and {count(told.merges, "merge")}.{" "}
        {isText ? "A line keeps its origin when only its spaces change." : "Cosmetic changes take no origin over."}
      </p>
    </>
  );
}

function rowAsked(row: string): Record<string, string> {
  const [key = "", column = "", table = ""] = row.split("\t");
  return { row: key, ...(column ? { column } : {}), ...(table ? { table } : {}) };
}

function sentence(told: Origins): string {
  const who = count(people(told).length, "person", "people");
  if (told.form === "lines") {
    const lines = (told.lines ?? []).reduce((n, run) => n + run.count, 0);
    return `Who set it: ${count(lines, "line")} by ${who} in ${count(told.versions, "version")}.`;
  }
  if (told.form === "rows")
    return `Who set it: ${count((told.parts ?? []).length, "column")} by ${who} in ${count(told.versions, "version")}.`;
  if (told.form === "whole") return "Who set it: only as a whole.";
  return `Who set it: ${count(told.total, "part")} by ${who} in ${count(told.versions, "version")}.`;
}

function Whole({ told }: { told: Origins }) {
  const commit = Object.values(told.commits).sort((a, b) => b.recorded.localeCompare(a.recorded))[0];
  return (
    <section className="sheet" aria-label="Who set it">
      <div className="ph">
        <h2 className="h3">The whole artifact</h2>
      </div>
      {commit && (
        <p className="pad">
          {commit.author}, {when(commit.recorded)}: “{commit.summary}” (version {commit.version})
        </p>
      )}
    </section>
  );
}
