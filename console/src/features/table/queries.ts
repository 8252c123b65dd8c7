/** What the table's page asks the service. */
import { queryOptions } from "@tanstack/react-query";
import { address, getFrom, type Schemas } from "../../api/client";

/** One version of one artifact. */
export interface OfTable {
  shelf: string;
  path: string;
  at: string;
  version?: string;
}

interface Wanted {
  table: string;
  start: number;
  count: number;
  sort: string;
  where: string[];
}

export const tableRows = (of: OfTable, wanted: Wanted) =>
  queryOptions({
    queryKey: ["shelf", of.shelf, "rows", of.path, of.at, of.version ?? "", wanted],
    queryFn: () => {
      const { shelf, path, at, version } = of;
      const { table, start, count, sort, where } = wanted;
      const base = address(`shelves/${shelf}/artifact/rows`, { path, ref: at, version, table, start, count, sort });
      return getFrom<Schemas["TableRows"]>(base + where.map((one) => `&where=${encodeURIComponent(one)}`).join(""));
    },
  });
