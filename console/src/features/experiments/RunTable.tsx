/** Runs side by side: what differs from the base run is marked, the best of each metric is named. */

import { extent } from "d3-array";
import { scaleLinear } from "d3-scale";
import { useState } from "react";
import { when } from "../../marks/words";
import { RowAct, TextAct } from "../../parts/Acts";
import { CheckField } from "../../parts/CheckField";
import { Table } from "../../parts/Table";
import { cellOf, GROUPS, heading, numberOf, type Sorting, shown, sorted, took } from "./model";
import type { Column, Experiment, Run } from "./queries";
import { Sign } from "./Sign";

interface Props {
  found: Experiment;
  columns: Column[];
  branches: { name: string; shape: "square" | "circle" | "triangle" }[];
  ticked: Set<number>;
  chosen: number | null;
  onTick: (run: number) => void;
  onChoose: (run: number) => void;
  onBase: (run: number) => void;
}

export function RunTable({ found, columns, branches, ticked, chosen, onTick, onChoose, onBase }: Props) {
  const [by, setBy] = useState<Sorting | null>(null);
  const rows = sorted(found.runs, columns, by);
  const primary = columns.find((c) => c.group === "metrics" && c.name === found.primary);
  const groups = (["reads", "parameters", "metrics"] as const)
    .map((g) => [g, columns.filter((c) => c.group === g)] as const)
    .filter(([, own]) => own.length > 0);
  const sort = (column: string) => setBy(by?.column === column ? (by.down ? null : { column, down: true }) : { column, down: false });
  const aria = (column: string) =>
    (by?.column === column ? (by.down ? "descending" : "ascending") : undefined) as "ascending" | "descending" | undefined;
  const arrow = (column: string) => (by?.column === column ? (by.down ? " ▾" : " ▴") : "");
  const best = primary ? found.runs.find((r) => cellOf(r, primary)?.best)?.number : undefined;
  return (
    <div className="scroll" style={{ maxHeight: 330 }} tabIndex={0} role="region" aria-label="Table of runs">
      <Table className="runs">
        <thead>
          <tr className="groups">
            <td colSpan={4} />
            {groups.map(([g, own]) => (
              <th key={g} scope="colgroup" colSpan={own.length}>
                {GROUPS[g]}
              </th>
            ))}
            <td colSpan={2} />
          </tr>
          <tr>
            <th scope="col">
              <span className="sr">Drawn</span>
            </th>
            <th scope="col" aria-sort={aria("branch")}>
              <RowAct onClick={() => sort("branch")}>Branch{arrow("branch")}</RowAct>
            </th>
            <th scope="col" className="num" aria-sort={aria("run")}>
              <RowAct onClick={() => sort("run")}>Run{arrow("run")}</RowAct>
            </th>
            <th scope="col">Commit</th>
            {groups.flatMap(([, own]) =>
              own.map((c, n) => {
                const id = `${c.group} ${c.name}`;
                return (
                  <th
                    key={id}
                    scope="col"
                    aria-sort={aria(id)}
                    className={`${c.group === "parameters" ? "par" : "num"} ${n === 0 ? "first" : ""} ${c === primary ? "primary" : ""}`}
                  >
                    <RowAct onClick={() => sort(id)}>
                      {heading(c)}
                      {arrow(id)}
                    </RowAct>
                  </th>
                );
              }),
            )}
            <th scope="col" className="num" aria-sort={aria("took")}>
              <RowAct onClick={() => sort("took")}>Took{arrow("took")}</RowAct>
            </th>
            <th scope="col">
              <span className="sr">When</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((run) => (
            <Row
              key={run.number}
              run={run}
              found={found}
              groups={groups.map(([, own]) => own)}
              primary={primary}
              best={best}
              shape={branches.find((b) => b.name === run.branch)?.shape ?? "circle"}
              ticked={ticked.has(run.number)}
              chosen={chosen === run.number}
              onTick={onTick}
              onChoose={onChoose}
              onBase={onBase}
            />
          ))}
        </tbody>
      </Table>
    </div>
  );
}

interface RowProps {
  run: Run;
  found: Experiment;
  groups: Column[][];
  primary: Column | undefined;
  best: number | undefined;
  shape: "square" | "circle" | "triangle";
  ticked: boolean;
  chosen: boolean;
  onTick: (run: number) => void;
  onChoose: (run: number) => void;
  onBase: (run: number) => void;
}

function Row({ run, found, groups, primary, best, shape, ticked, chosen, onTick, onChoose, onBase }: RowProps) {
  const base = run.number === found.base;
  const failed = run.state === "failed";
  return (
    <tr className={`${chosen ? "sel" : ""} ${base ? "base" : ""}`} onClick={() => onChoose(run.number)}>
      <td>
        {!failed && (
          <CheckField
            aria-label={`Draw run ${run.number}`}
            checked={ticked}
            onChange={() => onTick(run.number)}
            onClick={(e) => e.stopPropagation()}
          />
        )}
      </td>
      <td>
        <Sign shape={shape} />
        {run.branch}
      </td>
      <td className="num">
        <TextAct aria-label={`Look at run ${run.number}`} aria-current={chosen} onClick={() => onChoose(run.number)}>
          {run.number}
        </TextAct>
      </td>
      <td className="mono">{run.commit.slice(0, 8)}</td>
      {failed ? (
        <td colSpan={groups.flat().length} className="mut first">
          failed{run.note && `: ${run.note}`}
        </td>
      ) : (
        groups.flatMap((own) =>
          own.map((c, n) => {
            const cell = cellOf(run, c);
            return (
              <td
                key={`${c.group} ${c.name}`}
                className={`num ${n === 0 ? "first" : ""} ${cell?.differs && c.group !== "metrics" ? "df" : "sm2"} ${cell?.best ? "bestcell" : ""}`}
              >
                {cell?.best && (
                  <span role="img" aria-label="best" className="bestsign">
                    ◆{" "}
                  </span>
                )}
                {cell ? shown(c, cell.value) : "–"}
                {c === primary && <Bar found={found} run={run} column={c} />}
              </td>
            );
          }),
        )
      )}
      <td className="num sec">{took(run.took_seconds)}</td>
      <td className="sec">
        {base ? "base of the comparison" : run.number === best ? <b className="bestword">best so far</b> : when(run.began)}
        {!base && !failed && (
          <TextAct
            onClick={(e) => {
              e.stopPropagation();
              onBase(run.number);
            }}
            className="quiet"
          >
            compare with this
          </TextAct>
        )}
      </td>
    </tr>
  );
}

/** How far from the base run, to the side of better or worse. */
function Bar({ found, run, column }: { found: Experiment; run: Run; column: Column }) {
  const values = found.runs.map((r) => numberOf(r, column)).filter((v): v is number => v !== null);
  const against = found.runs.find((r) => r.number === found.base);
  const reference = against ? numberOf(against, column) : null;
  const value = numberOf(run, column);
  const [low, high] = extent(values);
  if (reference === null || value === null || low === undefined || high === undefined || low === high) return null;
  const x = scaleLinear([low, high], [3, 55]);
  const better = column.better === "lower" ? value < reference : value > reference;
  return (
    <svg width="58" height="12" aria-hidden="true" style={{ display: "inline-block", verticalAlign: -1, marginLeft: 8 }}>
      <path d={`M${x(reference)} 0V12`} stroke="var(--line-strong)" />
      <rect
        x={Math.min(x(value), x(reference))}
        y="3"
        width={Math.abs(x(value) - x(reference))}
        height="6"
        fill={better ? "var(--accent)" : "var(--line-strong)"}
      />
    </svg>
  );
}
