/** The rows of a query as a grid. */
import { DataGrid, type GridColDef } from "@mui/x-data-grid";
import type { Schemas } from "../../api/client";
import { isNumeric } from "./chart";

const ROW = 28;
const HEAD = 48;

type Shown = { id: number; cells: (string | null)[] };

export default function ResultGrid({ answer }: { answer: Schemas["QueryAnswer"] }) {
  const columns = answer.columns.map((column, place): GridColDef<Shown> => {
    const numeric = isNumeric(column.type);
    return {
      field: `${place} ${column.name}`,
      headerName: column.name,
      minWidth: 110,
      flex: 1,
      align: numeric ? "right" : "left",
      headerAlign: numeric ? "right" : "left",
      type: numeric ? "number" : "string",
      valueGetter: (_, row) => {
        const cell = row.cells[place] ?? null;
        return numeric && cell !== null ? Number(cell) : cell;
      },
      // As the service wrote it: a number of 18 digits is more than a browser's own numbers hold.
      renderCell: ({ row }) => row.cells[place] ?? <span className="cap">nothing</span>,
      renderHeader: () => (
        <span className="gridhead">
          <b className="mono">{column.name}</b>
          <span className="cap">{column.type}</span>
        </span>
      ),
    };
  });
  const rows = answer.rows.map((cells, id): Shown => ({ id, cells }));
  return (
    <DataGrid<Shown>
      label="Rows of the query"
      style={{ height: `min(${HEAD + ROW * Math.max(rows.length, 3) + 20}px, calc(100vh - 200px))`, minHeight: 220 }}
      columns={columns}
      rows={rows}
      rowHeight={ROW}
      columnHeaderHeight={HEAD}
      hideFooter
      disableColumnMenu
      disableRowSelectionOnClick
    />
  );
}
