/** An open merge, as the page needs it. */
import { queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";

export type WaitingMerge = Schemas["WaitingMerge"];
export type MergeDetail = Schemas["MergeDetail"];
export type MergeArtifact = Schemas["ArtifactMerge"];
export type Conflict = Schemas["ConflictAnswer"];
export type Take = "target" | "source" | "both" | "edited";

export const merges = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "merges"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/merges", { params: { path: { shelf: key } } })),
  });

export const mergeDetail = (key: string, id: string) =>
  queryOptions({
    queryKey: ["shelf", key, "merges", id],
    queryFn: () => answer(api.GET("/shelves/{shelf}/merges/{uid}", { params: { path: { shelf: key, uid: id } } })),
  });

/** What was taken, in the words of the merge: the name of a branch, both, or edited. */
export function takenOf(merge: { target: string; source: string }, take: string): string {
  return take === "target" ? merge.target : take === "source" ? merge.source : take;
}

/** One conflict of one artifact. */
export interface Place {
  artifact: MergeArtifact;
  conflict: Conflict;
}

export function places(detail: MergeDetail): Place[] {
  return detail.artifacts.flatMap((artifact) => artifact.conflicts.map((conflict) => ({ artifact, conflict })));
}

export interface Line {
  text: string;
  state: "same" | "added" | "removed";
}

const MOST_LINES = 400;

/** A value in lines: a text by its lines, a list by its items, an object by its fields. */
export function linesOf(value: unknown): string[] {
  if (value === undefined) return [];
  if (typeof value === "string") return value.split("\n").slice(0, MOST_LINES);
  if (Array.isArray(value)) return value.map((v) => plain(v)).slice(0, MOST_LINES);
  if (value !== null && typeof value === "object")
    return Object.entries(value)
      .map(([k, v]) => `${k}: ${plain(v)}`)
      .slice(0, MOST_LINES);
  return [plain(value)];
}

function plain(value: unknown): string {
  return typeof value === "string" ? value : value === null ? "empty" : JSON.stringify(value);
}

/** The lines of a side against those of the base (longest common subsequence). */
export function against(base: string[], side: string[]): Line[] {
  const rows = base.length + 1;
  const columns = side.length + 1;
  const best = new Uint16Array(rows * columns);
  for (let i = base.length - 1; i >= 0; i--)
    for (let j = side.length - 1; j >= 0; j--)
      best[i * columns + j] =
        base[i] === side[j]
          ? (best[(i + 1) * columns + j + 1] ?? 0) + 1
          : Math.max(best[(i + 1) * columns + j] ?? 0, best[i * columns + j + 1] ?? 0);
  const lines: Line[] = [];
  let i = 0;
  let j = 0;
  while (i < base.length || j < side.length) {
    if (i < base.length && j < side.length && base[i] === side[j]) {
      lines.push({ text: side[j] ?? "", state: "same" });
      i++;
      j++;
    } else if (i < base.length && (j >= side.length || (best[(i + 1) * columns + j] ?? 0) >= (best[i * columns + j + 1] ?? 0))) {
      lines.push({ text: base[i++] ?? "", state: "removed" });
    } else {
      lines.push({ text: side[j++] ?? "", state: "added" });
    }
  }
  return lines;
}

/** A text that a person wrote, as the value it means beside ``like``. */
export function written(text: string, like: unknown): unknown {
  if (typeof like === "string") return text;
  try {
    return JSON.parse(text) as unknown;
  } catch {
    return text;
  }
}

export function asText(value: unknown): string {
  return typeof value === "string" ? value : value === undefined ? "" : JSON.stringify(value, null, 2);
}
