/** The columns of the list, and the list as a file; pure. */

import type { Artifact } from "../../api/queries";
import { csvCell } from "../../marks/csv";

/** By what the service sorts, and what the column is called. */
export const COLUMNS: [string, string][] = [
  ["kind", "Kind"],
  ["path", "Artifact"],
  ["version", "Version"],
  ["summary", "Last commit"],
  ["who", "Who"],
  ["when", "When"],
  ["size", "Size"],
  ["effect", "Effect of last change"],
];

export function csvOf(rows: Artifact[], raw: boolean): string {
  const head = ["path", "kind", "version", "summary", "author", "recorded", "size_bytes", "effect", "headline"];
  const lines = rows.map((a) =>
    [a.path, a.kind, a.version, a.summary, a.author, a.recorded, a.size, a.effect, a.headline].map((v) => csvCell(v, raw)).join(","),
  );
  return [head.join(","), ...lines].join("\r\n");
}
