/** What the table's page asks the service. */
import { queryOptions } from "@tanstack/react-query";
import { answer, api } from "../../api/client";
import { numberIn } from "../../api/given";

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
      const query = { path, ref: at, version: numberIn(version), table, start, count, sort: [sort], where };
      return answer(api.GET("/shelves/{shelf}/artifact/rows", { params: { path: { shelf }, query } }));
    },
  });
