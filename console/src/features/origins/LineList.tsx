/** Lines of a text; neighbours of one origin share one label. */

import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { text } from "../../api/queries";
import { group, tone, when } from "../../marks/words";
import { RowAct } from "../../parts/Acts";
import { GoToNumber } from "../../parts/GoToNumber";
import { Table } from "../../parts/Table";
import { Loading } from "../../shell/states";
import { isShown, type OriginCommit, type Origins, TONES } from "./model";

const SHOWN = 4000;
const MOST_LINES = 1e9;

interface Run {
  first: number;
  count: number;
  commit: OriginCommit;
}

interface Given {
  asked: { shelf: string; path: string; at: string; version: string | undefined };
  told: Origins;
  chosen: string;
  cosmetic: boolean;
  sought: { words: string; who: string; since: string };
  onChoose: (line: string) => void;
}

export function LineList({ asked, told, chosen, cosmetic, sought, onChoose }: Given) {
  useEffect(() => {
    document.getElementById(`line-${chosen}`)?.scrollIntoView({ block: "nearest" });
  });
  const found = useQuery(text(asked.shelf, asked.path, asked.at, asked.version));
  if (!found.data) return <Loading what="Reading the text" />;
  const lines = found.data.text.split(/\r\n|\r|\n/);
  const runs = joined(told, cosmetic);
  const last = Math.min(lines.length, SHOWN);
  const walk = (event: React.KeyboardEvent) => {
    const step = event.key === "ArrowDown" || event.key === "]" ? 1 : event.key === "ArrowUp" || event.key === "[" ? -1 : 0;
    const next = Number(chosen || 0) + step;
    if (!step || next < 1 || next > last) return;
    event.preventDefault();
    onChoose(String(next));
    document.getElementById(`line-${next}`)?.focus();
  };
  return (
    <section className="sheet" aria-label="Who set it">
      <div className="scroll tall" onKeyDown={walk}>
        <Table className="origins lines">
          <thead>
            <tr>
              <th>
                <span className="sr">Age</span>
              </th>
              <th>Who, when and why</th>
              <th className="num">Line</th>
              <th>{asked.path.split("/").pop()}</th>
            </tr>
          </thead>
          {runs
            .filter(
              (run) =>
                run.first <= last &&
                isShown(
                  { id: "", type: "line", label: "", depth: 0, commit: run.commit, cosmetic: false, of: {} },
                  sought.words,
                  sought.who,
                  sought.since,
                ),
            )
            .map((run) => {
              const count = Math.min(run.count, last - run.first + 1);
              return (
                <tbody key={run.first}>
                  {Array.from({ length: count }, (_, k) => {
                    const number = run.first + k;
                    return (
                      <tr key={number} className={String(number) === chosen ? "on" : ""}>
                        {k === 0 && (
                          <td className="age" rowSpan={count}>
                            <i className={`tone${tone(run.commit.recorded)}`} title={TONES[tone(run.commit.recorded)]} />
                          </td>
                        )}
                        {k === 0 && (
                          <td className="who" rowSpan={count}>
                            <b>{run.commit.author}</b>, {when(run.commit.recorded)}
                            <span className="why" title={run.commit.summary}>
                              {run.commit.summary}
                            </span>
                          </td>
                        )}
                        <td className="num">
                          <RowAct
                            id={`line-${number}`}
                            className="pick"
                            aria-current={String(number) === chosen}
                            aria-label={`Line ${number}`}
                            onClick={() => onChoose(String(number))}
                          >
                            {number}
                          </RowAct>
                        </td>
                        <td className="mono code">{lines[number - 1] || " "}</td>
                      </tr>
                    );
                  })}
                </tbody>
              );
            })}
        </Table>
        {(lines.length > SHOWN || found.data.truncated) && (
          <div className="pad cap">
            <p>The first {group(SHOWN)} lines. Of any other, its forms are shown beside them.</p>
            <GoToNumber label="Line" most={MOST_LINES} onGo={(line) => onChoose(String(line))} />
          </div>
        )}
      </div>
    </section>
  );
}

/** Neighbours that one commit set, as one. */
function joined(told: Origins, cosmetic: boolean): Run[] {
  const runs: Run[] = [];
  for (const run of told.lines ?? []) {
    const commit = told.commits[cosmetic && run.looks ? run.looks : run.set];
    const last = runs[runs.length - 1];
    if (!commit) continue;
    if (last?.commit === commit && last.first + last.count === run.first) last.count += run.count;
    else runs.push({ first: run.first, count: run.count, commit });
  }
  return runs;
}
