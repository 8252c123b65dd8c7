/** A compared table: rows as bars, schema, each column's values before and after, and the rows that differ in place. */

import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { compareRows, type Finding } from "../../api/queries";
import { Mark } from "../../marks/Mark";
import { count, group } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { told } from "../compare/model";
import { Histogram } from "./Histogram";
import { type ComparedTable, figure, isNumber, type Lane, lanes, type Row, sameBetween } from "./model";
import { ShiftList } from "./ShiftList";

interface Props {
  table: ComparedTable;
  findings: Finding[];
  shelf: string;
  path: string;
  from: string;
  to: string;
  /** Which table, where the artifact holds several. */
  name?: string;
}
const MOST_COLUMNS = 60;

export function TableComparison({ table, findings, shelf, path, from, to, name = "" }: Props) {
  const [column, setColumn] = useState("");
  const [action, setAction] = useState("");
  const all = useMemo(() => lanes(table), [table]);
  const shown = useMemo(() => chosenLanes(all, table), [all, table]);
  const profiles = useMemo(() => new Map(table.profiles.map((p) => [p.column, p])), [table]);
  const pages = useInfiniteQuery({
    ...compareRows(shelf, path, from, to, action, column, name),
    placeholderData: keepPreviousData,
  });
  const rows = pages.data?.pages.flatMap((p) => p.rows) ?? table.details;
  const differing = table.rows.added + table.rows.removed + table.rows.changed;
  const filtered = Boolean(action || column);
  const total = pages.data?.pages[0]?.total ?? (filtered ? rows.length : differing);
  const grid = useRef<HTMLDivElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    // The first column that changed is in sight, however many stand before it.
    const box = grid.current;
    const first = box?.querySelector<HTMLElement>("th[data-touched]");
    if (box && first && first.offsetLeft + first.offsetWidth > box.clientWidth) box.scrollLeft = first.offsetLeft - box.clientWidth / 2;
  }, [table]);
  return (
    <div className="cols-table">
      <section className="sheet" aria-label="Table">
        <div className="scroll grid" ref={grid} tabIndex={0} role="region" aria-label="Columns and rows that differ">
          <Table>
            <thead>
              <tr>
                <th scope="row" className="corner">
                  Schema
                </th>
                {shown.map((lane) => (
                  <Heading
                    key={`${lane.name} ${lane.became}`}
                    lane={lane}
                    touched={lane.became !== "same" || Boolean(table.cells[lane.name]?.changed)}
                  />
                ))}
              </tr>
              <tr className="profiles">
                <th scope="row" className="corner">
                  Profile
                </th>
                {shown.map((lane) => {
                  const profile = profiles.get(lane.name);
                  const key = lane.leads ? "key" : "";
                  if (!profile) return <td key={lane.name} className={key} />;
                  const said = figure(profile);
                  return (
                    <td key={lane.name} className={key}>
                      <Histogram profile={profile} />
                      <span className="cap">{said.what}</span>
                      <span className="said">
                        {said.before && said.after && said.before !== said.after ? (
                          <>
                            {said.before} → <b>{said.after}</b>
                          </>
                        ) : (
                          <b>{said.after || said.before}</b>
                        )}
                      </span>
                    </td>
                  );
                })}
              </tr>
              <tr className="counts">
                <th scope="row" className="corner">
                  Changed
                </th>
                {shown.map((lane) => (
                  <td key={lane.name} className={lane.leads ? "key" : ""}>
                    <Counted
                      lane={lane}
                      table={table}
                      chosen={column === lane.name}
                      onChoose={() => setColumn(column === lane.name ? "" : lane.name)}
                    />
                  </td>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.map((row, i) => (
                <RowGroup key={`${row.rows[0]} ${row.rows[1]}`} row={row} previous={filtered ? undefined : rows[i - 1]} shown={shown} />
              ))}
            </tbody>
          </Table>
        </div>
        <p className="foot pad">
          <span>
            {group(rows.length)} of {count(total, "row")} that differ
            {filtered ? `, ${[action, column && `in ${column}`].filter(Boolean).join(" ")}` : ""}
          </span>
          <Switch label="Rows shown">
            {["", "changed", "removed", "added"].map((a) => (
              <Part key={a} pressed={action === a} onClick={() => setAction(a)}>
                {a || "all"}
              </Part>
            ))}
          </Switch>
          {pages.hasNextPage && (
            <TextAct onClick={() => void pages.fetchNextPage()} disabled={pages.isFetchingNextPage}>
              show more rows
            </TextAct>
          )}
          {all.length > shown.length && (
            <span className="cap">{count(all.length - shown.length, "column")} without a change not shown</span>
          )}
        </p>
      </section>
      <div className="stack">
        <ShiftList table={table} chosen={column} onChoose={setColumn} />
        <section className="sheet" aria-label="Findings">
          <div className="ph">
            <h2 className="h3">Findings</h2>
            <span className="cap">{group(findings.length)}</span>
          </div>
          <ul className="plainlist">
            {findings.map((f) => (
              <li key={`${f.part} ${f.field ?? ""} ${f.action} ${f.effect} ${f.detail ?? ""}`}>
                <Mark action={f.action} cosmetic={f.effect === "cosmetic"} />
                <span>
                  <b className={f.type === "column" ? "mono" : ""}>{f.label}</b> {said(f)}
                </span>
              </li>
            ))}
          </ul>
          <p className="cap pad legend">
            <Sample before /> before <Sample /> after{" "}
            {table.key.length ? (
              <>
                matched by <span className="mono">{table.key.join(", ")}</span>
              </>
            ) : (
              "matched without a key"
            )}
          </p>
        </section>
      </div>
    </div>
  );
}

/** All columns, or of very many those that changed, the key and the first ones. */
function chosenLanes(all: Lane[], table: ComparedTable): Lane[] {
  if (all.length <= MOST_COLUMNS) return all;
  const touched = all.filter((l) => l.isKey || l.became !== "same" || table.cells[l.name]);
  return touched.length ? touched.slice(0, MOST_COLUMNS) : all.slice(0, MOST_COLUMNS);
}

function Heading({ lane, touched }: { lane: Lane; touched: boolean }) {
  const action = lane.became === "moved" ? "renamed" : lane.became;
  return (
    <th scope="col" className={`b-${lane.became} ${lane.leads ? "key" : ""}`} data-touched={touched || undefined}>
      <span className="hd">
        {lane.became !== "same" && <Mark action={action} />}
        <span className="mono">{lane.name}</span>
      </span>
      <span className="sub">
        {lane.became === "moved" && <del>{lane.was}</del>} {lane.became === "changed" && <del>{lane.oldType}</del>} {lane.type}
        {lane.isKey ? " · key" : ""}
      </span>
    </th>
  );
}

function Counted({ lane, table, chosen, onChoose }: { lane: Lane; table: ComparedTable; chosen: boolean; onChoose: () => void }) {
  const cells = table.cells[lane.name];
  if (lane.became === "added") return <span className="cap">all new</span>;
  if (lane.became === "removed") return <span className="cap">all gone</span>;
  if (!cells) return <span className="cap">none</span>;
  return (
    <>
      {cells.changed > 0 ? (
        <TextAct aria-pressed={chosen} onClick={onChoose}>
          {count(cells.changed, "cell")}
        </TextAct>
      ) : (
        <span className="cap">none</span>
      )}
      {cells.representation_only > 0 && <span className="cap"> {group(cells.representation_only)} respelt</span>}
    </>
  );
}

function RowGroup({ row, previous, shown }: { row: Row; previous: Row | undefined; shown: Lane[] }) {
  const between = previous ? sameBetween(previous, row) : 0;
  return (
    <>
      {between > 0 && (
        <tr className="between">
          <td colSpan={shown.length + 1}>
            <span>{count(between, "same row")}</span>
          </td>
        </tr>
      )}
      <tr className={`r-${row.action}`}>
        <td className="corner">
          <Mark action={row.action} />
        </td>
        {shown.map((lane) => (
          <Cell key={lane.name} row={row} lane={lane} />
        ))}
      </tr>
    </>
  );
}

function Cell({ row, lane }: { row: Row; lane: Lane }) {
  const before = lane.oldAt < 0 ? undefined : row.before?.[lane.oldAt];
  const after = lane.newAt < 0 ? undefined : row.after?.[lane.newAt];
  const side = isNumber(lane.type) ? "num" : "";
  if (row.action === "changed" && row.columns.includes(lane.name))
    return (
      <td className={`${side} cell`}>
        <del>{cell(before)}</del> <ins>{cell(after)}</ins>
      </td>
    );
  const value = row.action === "removed" ? before : (after ?? before);
  return (
    <td className={`${side} ${lane.became === "added" ? "new" : ""} ${lane.leads ? "key" : ""}`} title={value ?? ""}>
      {row.action === "removed" ? <s>{value}</s> : value}
    </td>
  );
}

function cell(value: string | null | undefined): string {
  if (value === null || value === undefined) return "none";
  return value === "" ? "empty" : value.length > 60 ? `${value.slice(0, 58)}…` : value;
}

function said(f: Finding): string {
  const { lead, before, after } = told(f);
  const values = before !== null && after !== null ? `${before} → ${after}` : (after ?? before ?? "");
  if (f.field === "shift") return f.detail ?? "";
  return [lead, values].filter(Boolean).join(" ");
}

function Sample({ before = false }: { before?: boolean }) {
  return (
    <svg width="22" height="10" aria-hidden="true" style={{ display: "inline-block", verticalAlign: -1 }}>
      {before ? (
        <path d="M1 9V4H8V1H15V9" fill="none" stroke="var(--ink)" strokeDasharray="2.5 2" />
      ) : (
        <path d="M1 9V4H8V1H15V9Z" fill="var(--tone-1)" />
      )}
    </svg>
  );
}
