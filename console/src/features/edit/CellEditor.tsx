/** A small table by cell: arrows move, Enter edits and saves, Esc leaves the cell as it was. */
import { DataGrid, type GridColDef } from "@mui/x-data-grid";
import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import { count, group } from "../../marks/words";
import type { Change } from "./autosave";

const PAGE = 100;
const ROW = 28;
const HEAD = 34;

/** Cells under their columns' places: columns of a file may share a name. */
type GridRow = { id: number } & Record<string, string | number>;

interface Props {
  table: Schemas["ArtifactCells"];
  onEdit: (change: Change) => void;
  /** Whether a cell is being typed into. */
  onTyping: (typing: boolean) => void;
}

export function CellEditor({ table, onEdit, onTyping }: Props) {
  const { columns: names, forms } = table;
  const [wrong, setWrong] = useState("");
  const [rows, setRows] = useState(() => table.rows.map(rowOf));
  const [changed, setChanged] = useState<Set<string>>(new Set());
  const columns = useMemo(() => columnsOf(names), [names]);
  const save = (row: GridRow, was: GridRow) => {
    const places = names.map((_, place) => place).filter((place) => row[fieldOf(place)] !== was[fieldOf(place)]);
    if (places.length === 0) return was;
    for (const place of places) {
      const why = misfit(names[place] ?? "", forms[place] ?? "", String(row[fieldOf(place)] ?? ""));
      if (why) throw new Error(why); // the cell stays open
    }
    setWrong("");
    setRows((before) => before.map((one) => (one.id === row.id ? row : one)));
    setChanged((before) => new Set([...before, ...places.map((place) => `${row.id} ${fieldOf(place)}`)]));
    onEdit({
      cells: places.map((place) => ({
        row: row.id,
        column: names[place] ?? "",
        value: String(row[fieldOf(place)] ?? ""),
        was: String(was[fieldOf(place)] ?? ""),
      })),
    });
    return row;
  };
  return (
    <section className="sheet rowsgrid" aria-label="Cells">
      <div className="ph">
        <h2 className="h3">
          {count(rows.length, "row")}, {count(names.length, "column")}
        </h2>
        <span className="cap">Arrow keys move, Enter edits, Esc cancels</span>
      </div>
      {wrong && (
        <p className="problem pad" role="alert">
          {wrong}
        </p>
      )}
      <DataGrid<GridRow>
        label="Cells of the table"
        style={{
          height: `min(${HEAD + (rows.length > PAGE ? 66 : 4) + ROW * Math.max(Math.min(rows.length, PAGE), 3)}px, calc(100vh - 300px))`,
          minHeight: 160,
        }}
        columns={columns}
        rows={rows}
        rowHeight={ROW}
        columnHeaderHeight={HEAD}
        pageSizeOptions={[PAGE]}
        initialState={{ pagination: { paginationModel: { pageSize: PAGE } } }}
        hideFooter={rows.length <= PAGE}
        processRowUpdate={save}
        onProcessRowUpdateError={(error: Error) => {
          setWrong(error.message);
          onTyping(true);
        }}
        onCellEditStart={() => onTyping(true)}
        onCellEditStop={({ reason }) => {
          if (reason === "escapeKeyDown") setWrong("");
          onTyping(false);
        }}
        getCellClassName={({ id, field }) => (changed.has(`${id} ${field}`) ? "cell" : "")}
        disableColumnSorting
        disableColumnFilter
        disableColumnMenu
        disableRowSelectionOnClick
      />
    </section>
  );
}

const BLANK = ["", "NA", "N/A", "null", "NULL", "NaN", "nan", "None"];

/** Why a value is none of what its column holds; empty if it is. The service says the same of what it is sent. */
export function misfit(column: string, form: string, value: string): string {
  const text = value.trim();
  if (!form || BLANK.includes(text) || new RegExp(`^(?:${form})$`, "u").test(text)) return "";
  return `“${value}” does not fit the other values of ${column}; it is not saved. Esc leaves the cell as it was. If it belongs in this column, edit the text instead.`;
}

function fieldOf(place: number): string {
  return `c${place}`;
}

function rowOf(cells: string[], id: number): GridRow {
  return { ...Object.fromEntries(cells.map((text, place) => [fieldOf(place), text])), id };
}

function columnsOf(names: string[]): GridColDef<GridRow>[] {
  const number: GridColDef<GridRow> = {
    field: "row",
    headerName: "row",
    width: 84,
    align: "right",
    headerAlign: "right",
    valueGetter: (_, row) => group(row.id + 1),
    cellClassName: "cap",
  };
  return [
    number,
    ...names.map(
      (name, place): GridColDef<GridRow> => ({
        field: fieldOf(place),
        headerName: name,
        headerClassName: "mono",
        minWidth: 110,
        flex: 1,
        editable: true,
      }),
    ),
  ];
}
