/** A table: who last changed a cell in each column, what each commit did to rows, and a row to look for by its key. */

import { useState } from "react";
import { group, tone, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Table } from "../../parts/Table";
import { type Origins, TONES } from "./model";

export function TableOrigins({ told, row, onRow }: { told: Origins; row: string; onRow: (row: string) => void }) {
  const [asked = "", askedColumn = "", askedTable = ""] = row.split("\t");
  const [key, setKey] = useState(asked);
  const [column, setColumn] = useState(askedColumn);
  const [table, setTable] = useState(askedTable);
  const tables = [...new Set((told.parts ?? []).map((part) => /^\/table:([^/]*)/.exec(part.path)?.[1] ?? ""))].filter(Boolean);
  return (
    <section className="sheet" aria-label="Who set it">
      <form
        className="pad rowform"
        onSubmit={(e) => {
          e.preventDefault();
          onRow(key ? [key, column, table].join("\t") : "");
        }}
      >
        {tables.length > 0 && (
          <span>
            <Choice id="origins-table" label="Table" value={table} onChange={(e) => setTable(e.target.value)}>
              <option value="">choose one</option>
              {tables.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </Choice>
          </span>
        )}
        <span>
          <Field
            id="origins-row"
            label="Key of a row"
            value={key}
            placeholder="with commas: Z01,adult"
            onChange={(e) => setKey(e.target.value)}
          />
        </span>
        <span>
          <Choice id="origins-column" label="Column" value={column} onChange={(e) => setColumn(e.target.value)}>
            <option value="">all</option>
            {[...new Set((told.parts ?? []).map((part) => part.label))].map((name) => (
              <option key={name}>{name}</option>
            ))}
          </Choice>
        </span>
        <TextAct type="submit">Show the row</TextAct>
      </form>
      <Table className="origins" aria-label="Columns">
        <thead>
          <tr>
            <th className="age">
              <span className="sr">Age</span>
            </th>
            <th>Column</th>
            <th className="w8">Who</th>
            <th className="w8">When</th>
            <th className="w30">Why</th>
            <th className="w4">In</th>
          </tr>
        </thead>
        <tbody>
          {(told.parts ?? []).map((part) => (
            <Told
              key={part.path}
              told={told}
              uid={part.set}
              label={part.depth ? `${part.path.split("/")[1]?.replace("table:", "")}: ${part.label}` : part.label}
            />
          ))}
        </tbody>
      </Table>
      <Table className="origins" aria-label="Rows">
        <thead>
          <tr>
            <th className="age">
              <span className="sr">Age</span>
            </th>
            <th>Rows</th>
            <th className="w8">Who</th>
            <th className="w8">When</th>
            <th className="w30">Why</th>
            <th className="w4">In</th>
          </tr>
        </thead>
        <tbody>
          {(told.rows ?? []).map((rows, i) => (
            <Told key={i} told={told} uid={rows.set} label={`${rows.table ? `${rows.table}: ` : ""}${words(rows)}`} />
          ))}
          {(told.rows ?? []).length === 0 && (
            <tr>
              <td colSpan={6} className="mut">
                All rows are from the first version.
              </td>
            </tr>
          )}
        </tbody>
      </Table>
    </section>
  );
}

function words(rows: { added: number; changed: number; removed: number; whole?: boolean }): string {
  if (rows.whole) return "all of it";
  return (
    [
      ["added", rows.added],
      ["changed", rows.changed],
      ["removed", rows.removed],
    ] as const
  )
    .filter(([, n]) => n)
    .map(([word, n]) => `${group(n)} ${word}`)
    .join(", ");
}

function Told({ told, uid, label }: { told: Origins; uid: string; label: string }) {
  const commit = told.commits[uid];
  if (!commit) return null;
  return (
    <tr>
      <td className="age">
        <i className={`tone${tone(commit.recorded)}`} title={TONES[tone(commit.recorded)]} />
      </td>
      <td>{label}</td>
      <td>{commit.author}</td>
      <td title={commit.recorded}>{when(commit.recorded)}</td>
      <td className="why" title={commit.summary}>
        {commit.summary}
      </td>
      <td>{commit.version ? `v${commit.version}` : ""}</td>
    </tr>
  );
}
