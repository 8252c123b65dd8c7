/** Shaping runs for the table and the plots; pure. */
import { csvCell } from "../../marks/csv";
import type { Column, Experiment, Run } from "./queries";

export type Cell = { value: unknown; differs: boolean; change?: number | null; best?: boolean };

export function cellOf(run: Run, column: Column): Cell | undefined {
  return run.cells[column.group][column.name] as Cell | undefined;
}

export function numberOf(run: Run, column: Column | undefined): number | null {
  const value = column ? cellOf(run, column)?.value : undefined;
  return typeof value === "number" && Number.isFinite(value) ? value : null;
}

/** A value as a cell shows it: four digits that count, versions with a v. */
export function shown(column: Column, value: unknown): string {
  if (value === null || value === undefined) return "–";
  if (typeof value !== "number") return String(value);
  if (column.group === "reads") return `v${value}`;
  return Number.isInteger(value) ? String(value) : String(Number(value.toPrecision(4)));
}

export function heading(column: Column): string {
  return column.unit ? `${column.name}, ${column.unit}` : column.name;
}

export const GROUPS: Record<Column["group"], string> = {
  reads: "Read, version",
  parameters: "Parameters",
  metrics: "Metrics",
};

export interface Sorting {
  column: string;
  down: boolean;
}

export function sorted(runs: Run[], columns: Column[], by: Sorting | null): Run[] {
  const column = by ? columns.find((c) => `${c.group} ${c.name}` === by.column) : undefined;
  const value = (run: Run): unknown =>
    column ? cellOf(run, column)?.value : by?.column === "branch" ? run.branch : by?.column === "took" ? run.took_seconds : run.number;
  const rows = [...runs].sort((a, b) => {
    const [x, y] = [value(a), value(b)];
    if (x === undefined || x === null) return y === undefined || y === null ? 0 : 1;
    if (y === undefined || y === null) return -1;
    const order = typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y));
    return by?.down ? -order : order;
  });
  return rows;
}

export type Shape = "square" | "circle" | "triangle";
const SHAPES: Shape[] = ["square", "circle", "triangle"];

/** Branches in the order of their first run, with the sign each is drawn with; the fourth and later repeat, dotted. */
export function branchesOf(found: Experiment): { name: string; shape: Shape; round: number }[] {
  const names = [...new Set(found.runs.map((r) => r.branch))];
  return names.map((name, n) => ({ name, shape: SHAPES[n % 3] ?? "circle", round: Math.floor(n / 3) }));
}

export function took(seconds: number | null | undefined): string {
  if (seconds === null || seconds === undefined) return "";
  if (seconds < 90) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}

export function asCsv(columns: Column[], rows: Run[], raw: boolean): string {
  const head = ["run", "branch", "commit", "state", "began", "took_seconds", ...columns.map(heading)];
  const lines = rows.map((r) =>
    [r.number, r.branch, r.commit, r.state, r.began, r.took_seconds ?? "", ...columns.map((c) => cellOf(r, c)?.value ?? "")]
      .map((v) => csvCell(v, raw))
      .join(","),
  );
  return `${head.map((v) => csvCell(v, raw)).join(",")}\n${lines.join("\n")}\n`;
}

/** The parameter of which most values were tried within a branch: what separates branches alone says little. */
export function mostTried(found: Experiment, parameters: Column[]): Column | undefined {
  const tried = (c: Column) =>
    Math.max(
      0,
      ...branchesOf(found).map(
        (b) => new Set(found.runs.filter((r) => r.branch === b.name && cellOf(r, c)).map((r) => String(cellOf(r, c)?.value))).size,
      ),
    );
  return [...parameters].sort((a, b) => tried(b) - tried(a))[0];
}
