/** What of a query's rows can be drawn: the first two columns that hold no numbers name the bars, a column of numbers is their length. */
import type { Schemas } from "../../api/client";

type Answer = Pick<Schemas["QueryAnswer"], "columns" | "rows">;

const NUMBERS = /^(u?(tiny|small|big|huge)?int(eger)?|decimal|double|float|real)(\(.*\))?$/;
/** Bars beyond this many are too thin to be told apart. */
export const MOST_BARS = 60;
const NAMED_BY = 2;

export function isNumeric(type: string): boolean {
  return NUMBERS.test(type);
}

export interface Bars {
  names: string[];
  values: (number | null)[];
  name: string;
  value: string;
  left: number;
}

/** The columns that bars can show. */
export function numericColumns({ columns }: Answer): string[] {
  return columns.filter((one) => isNumeric(one.type)).map((one) => one.name);
}

export function barsOf(answer: Answer, value: string): Bars | null {
  const at = answer.columns.findIndex((one) => one.name === value);
  if (at < 0 || answer.rows.length === 0) return null;
  const named = answer.columns.flatMap((one, place) => (isNumeric(one.type) ? [] : [place])).slice(0, NAMED_BY);
  const shown = answer.rows.slice(0, MOST_BARS);
  return {
    // Two rows of one name are two bars.
    names: shown.map((row, n) => (named.length === 0 ? String(n + 1) : named.map((place) => row[place] ?? "").join(" "))),
    values: shown.map((row) => (row[at] === null || row[at] === undefined ? null : Number(row[at]))),
    name: named.length === 0 ? "row" : named.map((place) => answer.columns[place]?.name).join(", "),
    value,
    left: answer.rows.length - shown.length,
  };
}

/** The path a query is saved at. */
export function savedPath(name: string): string {
  const bare = name.trim().replace(/\.sql$/i, "");
  return `queries/${bare.replace(/[^\p{L}\p{N}._/-]+/gu, "-").replace(/^[-/.]+|[-/.]+$/g, "")}.sql`;
}
