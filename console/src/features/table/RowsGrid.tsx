/** A table of any size: the service sorts, filters and pages it; what is shown is in the address. */
import { DataGrid, type GridColDef, type GridSortModel } from "@mui/x-data-grid";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { useSearchParams } from "react-router";
import type { TableShown } from "../../api/queries";
import { count, group } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { GoToNumber } from "../../parts/GoToNumber";
import { Loading, ProblemBox } from "../../shell/states";
import { Conditions } from "./Conditions";
import { pageOf } from "./conditions";
import { Histogram } from "./Histogram";
import { figure, isNumber, type Profile, short } from "./model";
import { type OfTable, tableRows } from "./queries";

const PAGE = 100;
const ROW = 28;

type GridRow = { id: number; cells: (string | null)[] };

export function RowsGrid({ of, table, profiles }: { of: OfTable; table: string; profiles?: Profile[] }) {
  const [params, setParams] = useSearchParams();
  const page = Math.max(0, Number(params.get("page") ?? 1) - 1) || 0;
  const sort = params.get("sort") ?? "";
  const where = params.getAll("where");
  const set = (given: Record<string, string | string[]>) =>
    setParams((old) => {
      const next = new URLSearchParams(old);
      for (const [name, value] of Object.entries(given)) {
        next.delete(name);
        for (const one of [value].flat()) if (one) next.append(name, one);
      }
      return next;
    });
  const found = useQuery({ ...tableRows(of, { table, start: page * PAGE, count: PAGE, sort, where }), placeholderData: keepPreviousData });
  const told = found.data;
  // The same object while the order is the same: at another one the grid goes back to the first page.
  const order = useMemo(
    (): GridSortModel => (sort ? [{ field: sort.replace(/^-/, ""), sort: sort.startsWith("-") ? "desc" : "asc" }] : []),
    [sort],
  );
  const columns = useMemo(() => columnsOf(told?.columns ?? [], profiles), [told?.columns, profiles]);
  const rows = (told?.rows ?? []).map((cells, i): GridRow => ({ id: told?.numbers[i] ?? i, cells }));
  const tall = profiles?.length ? 112 : 48;
  return (
    <section className="sheet rowsgrid" aria-label="Table">
      <div className="ph">
        <h2 className="h3">
          {told
            ? `${count(told.total, "row")}${where.length ? ` of ${group(told.row_count)}` : ""}, ${count(told.columns.length, "column")}`
            : "Reading the table"}
        </h2>
        {told && where.length > 0 && <span className="cap">the columns' bars are of all rows</span>}
        <span className="r">
          <GoToNumber
            label="Go to row"
            most={told?.total ?? 0}
            onGo={(row) => set({ page: String(pageOf(row, told?.total ?? 0, PAGE) + 1) })}
          />
        </span>
      </div>
      {told && <Conditions columns={told.columns.map((one) => one.name)} held={where} onHeld={(held) => set({ where: held, page: "" })} />}
      {found.isError && (
        <>
          <ProblemBox error={found.error} />
          {(sort || where.length > 0 || page > 0) && (
            <p className="pad">
              <TextAct onClick={() => set({ sort: "", where: [], page: "" })}>Show all rows in the order of the file</TextAct>
            </p>
          )}
        </>
      )}
      {!told && !found.isError && <Loading what="Reading the table" />}
      {/* The grid forgets a page and an order of columns it does not know, so it comes with them. */}
      {told && (
        <DataGrid<GridRow>
          label="Rows of the table"
          style={{ height: `min(${tall + 66 + ROW * Math.max(rows.length, 3)}px, calc(100vh - 330px))`, minHeight: 320 }}
          columns={columns}
          rows={rows}
          rowCount={told.total}
          loading={found.isFetching}
          rowHeight={ROW}
          columnHeaderHeight={tall}
          paginationMode="server"
          pageSizeOptions={[PAGE]}
          paginationModel={{ page, pageSize: PAGE }}
          onPaginationModelChange={(model) => set({ page: model.page ? String(model.page + 1) : "" })}
          sortingMode="server"
          sortModel={order}
          onSortModelChange={([first]) => set({ sort: first ? `${first.sort === "desc" ? "-" : ""}${first.field}` : "", page: "" })}
          disableColumnFilter
          disableColumnMenu
          disableRowSelectionOnClick
        />
      )}
    </section>
  );
}

function columnsOf(columns: TableShown["columns"], profiles: Profile[] | undefined): GridColDef<GridRow>[] {
  const known = new Map((profiles ?? []).map((profile) => [profile.column, profile]));
  const number: GridColDef<GridRow> = {
    field: "\u0000row",
    headerName: "row",
    width: 84,
    sortable: false,
    align: "right",
    headerAlign: "right",
    valueGetter: (_, row) => group(row.id),
    cellClassName: "cap",
  };
  return [
    number,
    ...columns.map(
      (column, place): GridColDef<GridRow> => ({
        field: column.name,
        headerName: column.name,
        minWidth: 96,
        flex: 1,
        align: isNumber(column.type) ? "right" : "left",
        valueGetter: (_, row) => row.cells[place] ?? "",
        renderHeader: () => <Head name={column.name} type={column.type} profile={known.get(column.name)} />,
      }),
    ),
  ];
}

function Head({ name, type, profile }: { name: string; type: string; profile: Profile | undefined }) {
  const said = profile?.after ? figure(profile) : null;
  return (
    <span className="gridhead">
      <b className="mono">{name}</b>
      <span className="cap">{type}</span>
      {profile?.after && said && (
        <>
          <Histogram profile={profile} plain />
          <span className="cap">
            {said.what} {said.after}
            {said.what === "mean" && profile.after.numbers
              ? `, ${short(profile.after.numbers.least)} to ${short(profile.after.numbers.greatest)}`
              : ""}
            {profile.after.nulls > 0 ? `, ${group(profile.after.nulls)} empty` : ""}
          </span>
        </>
      )}
    </span>
  );
}
