/** Rows around what changed, both versions laid on each other, each cell with what it was where it differs. */
import { Mark } from "../../marks/Mark";
import { count } from "../../marks/words";
import { Table } from "../../parts/Table";
import { type ComparedSheet, type SheetCell, type SheetGrid, type SheetRow, shown } from "./model";

export function SheetGridView({ name, sheet, grid }: { name: string; sheet: ComparedSheet; grid: SheetGrid }) {
  const { before, after } = sheet.rows;
  return (
    <section className="sheet sheetgrid" aria-label={`Sheet ${name}`}>
      <div className="ph">
        <h2 className="h3">{name}</h2>
        <span className="cap">
          {before === after ? count(after, "row") : `${before} → ${count(after, "row")}`}; rows around what changed
          {grid.truncated ? ", the first ones" : ""}
        </span>
      </div>
      <div className="scroll grid" tabIndex={0} role="region" aria-label={`Cells of ${name}`}>
        <Table>
          <thead>
            <tr>
              <th scope="col" className="corner">
                <span className="cap">row</span>
              </th>
              {grid.columns.map((c) => (
                <th key={`${c.before} ${c.after}`} scope="col" className={c.state === "equal" ? "" : `b-${c.state}`}>
                  <span className="hd">
                    {c.state !== "equal" && <Mark action={c.state} />}
                    <span className="mono">
                      {c.before && c.after && c.before !== c.after ? `${c.before} → ${c.after}` : (c.after ?? c.before)}
                    </span>
                  </span>
                  {c.name !== (c.after ?? c.before) && <span className="sub">{c.name}</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {grid.rows.map((row, i) =>
              row.skipped ? (
                <tr key={`skipped ${i}`} className="between">
                  <td colSpan={grid.columns.length + 1}>
                    <span>{count(row.skipped, "same row")}</span>
                  </td>
                </tr>
              ) : (
                <Row key={`${row.before} ${row.after}`} row={row} columns={grid.columns} />
              ),
            )}
          </tbody>
        </Table>
      </div>
      <p className="cap pad legend">
        <span className="cellmark changed">value</span> <span className="cellmark formula">formula ƒ</span>{" "}
        <span className="cellmark recalculated">recalculated</span>
      </p>
    </section>
  );
}

function Row({ row, columns }: { row: SheetRow; columns: SheetGrid["columns"] }) {
  const action = row.state === "equal" ? null : row.state;
  const number = row.before && row.after && row.before !== row.after ? `${row.before} → ${row.after}` : (row.after ?? row.before);
  return (
    <tr className={`r-${row.state}`}>
      <th scope="row" className="corner">
        {action && <Mark action={action} />} <span className="cap">{number}</span>
      </th>
      {row.cells.map((cell, k) => (
        <Cell key={k} cell={cell} gone={row.state === "removed" || columns[k]?.state === "removed"} come={columns[k]?.state === "added"} />
      ))}
    </tr>
  );
}

function Cell({ cell, gone, come }: { cell: SheetCell | null; gone: boolean; come: boolean }) {
  if (!cell) return <td />;
  const number = typeof cell.value === "number" ? "num" : "";
  const formula = cell.formula && (
    <span className="formula" title={cell.formula}>
      ƒ {cell.formula}
    </span>
  );
  if (cell.state === "formula")
    return (
      <td className={`${number} cell`}>
        <del className="formula">{cell.was_formula ? `ƒ ${cell.was_formula}` : shown(cell.was) || "empty"}</del>{" "}
        <ins className="formula">{cell.formula ? `ƒ ${cell.formula}` : shown(cell.value) || "empty"}</ins>
      </td>
    );
  if (cell.state === "changed")
    return (
      <td className={`${number} cell`}>
        <del>{shown(cell.was) || "empty"}</del> <ins>{shown(cell.value) || "empty"}</ins>
      </td>
    );
  if (cell.state === "recalculated")
    return (
      <td className={`${number} recalculated`}>
        {shown(cell.was) || "none"} → {shown(cell.value) || "none"}
        {formula}
      </td>
    );
  const text = shown(cell.value);
  return (
    <td className={`${number} ${come ? "new" : ""}`} title={text}>
      {gone ? (
        <s>
          {text}
          {formula}
        </s>
      ) : (
        <>
          {text}
          {formula}
        </>
      )}
    </td>
  );
}
