/** A table alone: each column with its type and its values as bars, and the first rows. */
import type { TableShown } from "../../api/queries";
import { count, group } from "../../marks/words";
import { Table } from "../../parts/Table";
import { Histogram } from "./Histogram";
import { figure, isNumber, type Profile, short } from "./model";

export function TablePreview({ table }: { table: TableShown }) {
  const formulas = new Map((table.formulas ?? []).map((f) => [`${f.row} ${f.column}`, f.formula]));
  const profiles = new Map(table.profiles.map((p) => [p.column, p]));
  return (
    <section className={`sheet ${table.numbers ? "sheetgrid" : ""}`} aria-label="Table">
      <div className="ph">
        <h2 className="h3">
          {count(table.row_count, "row")}, {count(table.columns.length, "column")}
        </h2>
        <span className="cap">the first {group(Math.min(table.row_count, table.rows.length))} are shown</span>
      </div>
      <div className="scroll grid" style={{ maxHeight: "calc(100vh - 330px)" }} tabIndex={0} role="region" aria-label="First rows">
        <Table>
          <thead>
            <tr>
              {table.numbers && (
                <th scope="col" className="corner">
                  <span className="cap">row</span>
                </th>
              )}
              {table.columns.map((c) => (
                <th key={c.name} scope="col">
                  <span className="hd">
                    <span className="mono">{c.name}</span>
                  </span>
                  <span className="sub">{c.type}</span>
                </th>
              ))}
            </tr>
            {table.profiles.length > 0 && (
              <tr className="profiles">
                {table.columns.map((c) => (
                  <td key={c.name}>
                    <Told profile={profiles.get(c.name)} />
                  </td>
                ))}
              </tr>
            )}
          </thead>
          <tbody>
            {table.rows.map((row, i) => (
              <tr key={i}>
                {table.numbers && (
                  <th scope="row" className="corner">
                    <span className="cap">{table.numbers[i]}</span>
                  </th>
                )}
                {table.columns.map((c, j) => (
                  <td key={c.name} className={isNumber(c.type) || (table.numbers && isFigure(row[j])) ? "num" : ""}>
                    {row[j] ?? (formulas.has(`${i} ${j}`) || table.numbers ? "" : <span className="cap">none</span>)}
                    {formulas.has(`${i} ${j}`) && <span className="formula">ƒ {formulas.get(`${i} ${j}`)}</span>}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
    </section>
  );
}

function isFigure(text: string | null | undefined): boolean {
  return Boolean(text?.trim()) && Number.isFinite(Number(text));
}

function Told({ profile }: { profile: Profile | undefined }) {
  if (!profile?.after) return null;
  const said = figure(profile);
  const { nulls, numbers } = profile.after;
  return (
    <>
      <Histogram profile={profile} plain />
      <span className="cap">{said.what}</span>
      <span className="said">
        <b>{said.after}</b>
        {said.what === "mean" && numbers ? (
          <span className="mut">
            {" "}
            {short(numbers.least)} to {short(numbers.greatest)}
          </span>
        ) : null}
      </span>
      {nulls > 0 && <span className="cap">{group(nulls)} empty</span>}
    </>
  );
}
